ALTER TABLE sessions ADD COLUMN family TEXT NOT NULL DEFAULT '';      -- the hash of the first token of the session
UPDATE sessions SET family = token_hash;
CREATE INDEX sessions_by_family ON sessions (family);
CREATE TABLE replaced_tokens (
    token_hash TEXT   NOT NULL PRIMARY KEY,
    family     TEXT   NOT NULL,
    at         BIGINT NOT NULL  -- when another token took its place
);
CREATE INDEX replaced_tokens_by_family ON replaced_tokens (family);
