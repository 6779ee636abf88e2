ALTER TABLE accounts ADD COLUMN agreed_at BIGINT NOT NULL DEFAULT 0;  -- to the terms, when joining; 0 where there were none
CREATE TABLE applications (
    id         INTEGER PRIMARY KEY,
    name       TEXT   NOT NULL,
    name_key   TEXT   NOT NULL UNIQUE,
    email      TEXT   NOT NULL,
    email_key  TEXT   NOT NULL,
    hash       TEXT   NOT NULL,              -- of the password
    token_hash TEXT   NOT NULL UNIQUE,       -- of the link that proves the address
    language   TEXT   NOT NULL,
    network    TEXT   NOT NULL,
    next       TEXT   NOT NULL,
    state      TEXT   NOT NULL,
    made_at    BIGINT NOT NULL,
    agreed_at  BIGINT NOT NULL,
    proven_at  BIGINT NOT NULL,
    until_at   BIGINT NOT NULL
);
CREATE INDEX applications_by_email ON applications (email_key);
CREATE TABLE invitations (
    id         INTEGER PRIMARY KEY,
    token_hash TEXT   NOT NULL UNIQUE,
    email      TEXT   NOT NULL,
    email_key  TEXT   NOT NULL,
    roles      TEXT   NOT NULL,              -- separated by spaces
    ends_at    BIGINT NOT NULL,              -- of the roles; 0 for never
    made_at    BIGINT NOT NULL,
    made_by    TEXT   NOT NULL,
    until_at   BIGINT NOT NULL
);
