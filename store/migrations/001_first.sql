CREATE TABLE accounts (
    id           INTEGER PRIMARY KEY,
    name         TEXT    NOT NULL,          -- as it was written
    name_key     TEXT    NOT NULL UNIQUE,   -- as names are compared
    email        TEXT    NOT NULL DEFAULT '',
    hash         TEXT    NOT NULL,          -- of the password
    disabled     INTEGER NOT NULL DEFAULT 0,
    made_at      BIGINT  NOT NULL,          -- times are milliseconds since 1970, UTC
    made_by      TEXT    NOT NULL,
    signed_in_at BIGINT  NOT NULL DEFAULT 0 -- 0 for never
);
CREATE TABLE grants (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    role       TEXT    NOT NULL,
    from_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL,            -- 0 for no end
    granted_by TEXT    NOT NULL,
    PRIMARY KEY (account_id, role)
);
CREATE TABLE sessions (
    token_hash TEXT    NOT NULL PRIMARY KEY, -- SHA-256 of the token, in hexadecimal
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    made_at    BIGINT  NOT NULL,
    seen_at    BIGINT  NOT NULL,
    proved_at  BIGINT  NOT NULL,
    remembered INTEGER NOT NULL,
    network    TEXT    NOT NULL,
    agent      TEXT    NOT NULL
);
CREATE INDEX sessions_of_account ON sessions (account_id);
CREATE TABLE activity (
    id      INTEGER PRIMARY KEY,
    at      BIGINT  NOT NULL,
    kind    TEXT    NOT NULL,
    account TEXT    NOT NULL,  -- whom it is about
    actor   TEXT    NOT NULL,  -- who did it
    network TEXT    NOT NULL,
    detail  TEXT    NOT NULL
);
CREATE INDEX activity_at ON activity (at);
