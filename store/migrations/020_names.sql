ALTER TABLE accounts ADD COLUMN skeleton TEXT NOT NULL DEFAULT '';      -- what looks like this name has the same
ALTER TABLE applications ADD COLUMN skeleton TEXT NOT NULL DEFAULT '';
CREATE INDEX accounts_by_skeleton ON accounts (skeleton);
CREATE INDEX applications_by_skeleton ON applications (skeleton);
CREATE TABLE resting_names (                -- of accounts that were removed or renamed; nobody else gets them for a while
    name_hash  TEXT    NOT NULL PRIMARY KEY, -- SHA-256 of the name as names are compared, in hexadecimal
    account_id INTEGER NOT NULL,
    until_at   BIGINT  NOT NULL
);
CREATE TABLE numbers (                      -- the largest that were given, so that none is given twice
    name  TEXT   NOT NULL PRIMARY KEY,
    value BIGINT NOT NULL
);
ALTER TABLE invitations ADD COLUMN mailed INTEGER NOT NULL DEFAULT 0;   -- 1: sent to the address, so whoever has it reads its mail
ALTER TABLE messages ADD COLUMN to_key TEXT NOT NULL DEFAULT '';        -- the address as addresses are compared
CREATE INDEX messages_by_address ON messages (to_key, made_at);
