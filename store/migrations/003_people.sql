ALTER TABLE accounts ADD COLUMN email_key TEXT NOT NULL DEFAULT '';   -- as addresses are compared
ALTER TABLE accounts ADD COLUMN notes TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN password_at BIGINT NOT NULL DEFAULT 0; -- when it was set; 0 for not known
UPDATE accounts SET email_key = lower(email);
CREATE INDEX accounts_by_email ON accounts (email_key);
CREATE INDEX accounts_by_sign_in ON accounts (signed_in_at);
CREATE INDEX grants_by_role ON grants (role);
ALTER TABLE sessions ADD COLUMN rights TEXT NOT NULL DEFAULT '';      -- the roles at the time when the token was made
CREATE TABLE links (
    token_hash TEXT    NOT NULL PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    made_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL,
    made_by    TEXT    NOT NULL
);
CREATE INDEX links_of_account ON links (account_id);
ALTER TABLE activity ADD COLUMN door TEXT NOT NULL DEFAULT '';        -- as it is written in the policy
ALTER TABLE activity ADD COLUMN place TEXT NOT NULL DEFAULT '';       -- method and address asked for, without the query
ALTER TABLE activity ADD COLUMN reference TEXT NOT NULL DEFAULT '';
CREATE INDEX activity_by_account ON activity (account);
CREATE INDEX activity_by_reference ON activity (reference);
CREATE TABLE counts (
    hour    BIGINT NOT NULL, -- its beginning
    outcome TEXT   NOT NULL,
    door    TEXT   NOT NULL, -- as it is written in the policy
    n       BIGINT NOT NULL,
    PRIMARY KEY (hour, outcome, door)
);
CREATE TABLE secrets (
    name  TEXT NOT NULL PRIMARY KEY,
    value TEXT NOT NULL     -- a random key of the service itself, in hexadecimal
);
