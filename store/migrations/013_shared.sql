CREATE TABLE shared_passwords (
    id       INTEGER PRIMARY KEY,
    name     TEXT    NOT NULL,              -- in the policy
    hash     TEXT    NOT NULL,
    made_at  BIGINT  NOT NULL,
    made_by  TEXT    NOT NULL,
    until_at BIGINT  NOT NULL DEFAULT 0,    -- 0 for no end
    used_at  BIGINT  NOT NULL DEFAULT 0     -- roughly; 0 for never
);
CREATE INDEX shared_passwords_by_name ON shared_passwords (name);
CREATE TABLE unlocks (
    token_hash  TEXT   NOT NULL PRIMARY KEY,
    name        TEXT   NOT NULL,            -- of the shared password
    password_id BIGINT NOT NULL,
    made_at     BIGINT NOT NULL,
    network     TEXT   NOT NULL,
    agent       TEXT   NOT NULL,
    account     TEXT   NOT NULL             -- the name of who was signed in; '' for nobody
);
CREATE INDEX unlocks_by_name ON unlocks (name, made_at);
CREATE TABLE shared_tellings (
    name    TEXT   NOT NULL,                -- of the shared password
    address TEXT   NOT NULL,
    at      BIGINT NOT NULL,
    actor   TEXT   NOT NULL
);
CREATE INDEX shared_tellings_by_name ON shared_tellings (name, at);
