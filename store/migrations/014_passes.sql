CREATE TABLE passes (
    id            TEXT    NOT NULL PRIMARY KEY,
    kind          TEXT    NOT NULL,
    reference     TEXT    NOT NULL,
    address       TEXT    NOT NULL,
    name          TEXT    NOT NULL,
    note          TEXT    NOT NULL,
    language      TEXT    NOT NULL,
    paths         TEXT    NOT NULL,         -- one on each line; '' for all
    made_at       BIGINT  NOT NULL,
    made_by       TEXT    NOT NULL,
    until_at      BIGINT  NOT NULL,         -- 0 for no end, or not known yet
    lasts         BIGINT  NOT NULL,         -- milliseconds from the first use; 0 if until_at says it
    allowed       INTEGER NOT NULL,         -- downloads; 0 for any number
    used          INTEGER NOT NULL,
    first_used_at BIGINT  NOT NULL,
    last_used_at  BIGINT  NOT NULL,
    revoked_at    BIGINT  NOT NULL,
    paused_at     BIGINT  NOT NULL,
    why           TEXT    NOT NULL,
    spread_at     BIGINT  NOT NULL,
    link_hash     TEXT    NOT NULL UNIQUE,
    password_hash TEXT    NOT NULL,
    since         BIGINT  NOT NULL,         -- when these two were made
    old_link      TEXT    NOT NULL,         -- those before
    old_password  TEXT    NOT NULL,
    old_since     BIGINT  NOT NULL,
    old_until     BIGINT  NOT NULL,         -- as long as those before count too
    again_hash    TEXT    NOT NULL,
    reference_key TEXT    NOT NULL,         -- in these four is searched
    address_key   TEXT    NOT NULL,
    name_key      TEXT    NOT NULL,
    family_key    TEXT    NOT NULL
);
CREATE INDEX passes_by_age ON passes (made_at, id);
CREATE INDEX passes_by_kind ON passes (kind, made_at, id);
CREATE INDEX passes_by_old_link ON passes (old_link);
CREATE INDEX passes_by_again ON passes (again_hash);
CREATE INDEX passes_by_spread ON passes (spread_at);
CREATE INDEX passes_by_reference ON passes (reference_key);
CREATE INDEX passes_by_address ON passes (address_key);
CREATE INDEX passes_by_name ON passes (name_key);
CREATE INDEX passes_by_family ON passes (family_key);
CREATE TABLE pass_openings (               -- browsers in which a link was opened
    token_hash TEXT   NOT NULL PRIMARY KEY,
    pass_id    TEXT   NOT NULL,
    since      BIGINT NOT NULL,            -- when the link was made
    made_at    BIGINT NOT NULL,
    network    TEXT   NOT NULL,
    agent      TEXT   NOT NULL
);
CREATE INDEX pass_openings_by_pass ON pass_openings (pass_id);
CREATE TABLE pass_networks (               -- from where a pass was used, and when last
    pass_id TEXT   NOT NULL,
    network TEXT   NOT NULL,
    at      BIGINT NOT NULL,
    PRIMARY KEY (pass_id, network)
);
CREATE TABLE pass_files (                  -- what of a file was delivered to a pass
    pass_id TEXT   NOT NULL,
    file    TEXT   NOT NULL,
    size    BIGINT NOT NULL,
    spans   TEXT   NOT NULL,
    day     TEXT   NOT NULL,               -- on which it last counted; '' for never
    PRIMARY KEY (pass_id, file)
);
CREATE TABLE pass_story (
    id      INTEGER PRIMARY KEY,
    pass_id TEXT   NOT NULL,
    at      BIGINT NOT NULL,
    what    TEXT   NOT NULL,
    actor   TEXT   NOT NULL,
    detail  TEXT   NOT NULL
);
CREATE INDEX pass_story_by_pass ON pass_story (pass_id, id);
