ALTER TABLE sessions ADD COLUMN shown TEXT NOT NULL DEFAULT '';         -- what its owner has shown, and when; '' for the password at proved_at
ALTER TABLE accounts ADD COLUMN enrolled TEXT NOT NULL DEFAULT '';      -- what its owner can show beside the password
CREATE TABLE codes (                        -- one-time codes, of an app
    account_id INTEGER NOT NULL PRIMARY KEY REFERENCES accounts (id) ON DELETE CASCADE,
    secret     TEXT    NOT NULL,            -- in hexadecimal; whoever has it can make the codes
    made_at    BIGINT  NOT NULL,
    used_at    BIGINT  NOT NULL,
    step       BIGINT  NOT NULL             -- of the latest code that was taken: each counts once
);
CREATE TABLE recovery_codes (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    hash       TEXT    NOT NULL,            -- SHA-256, in hexadecimal
    used_at    BIGINT  NOT NULL,            -- 0 for not yet
    PRIMARY KEY (account_id, hash)
);
CREATE TABLE passkeys (
    id         TEXT    NOT NULL PRIMARY KEY, -- of the credential, in base64url
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    name       TEXT    NOT NULL,             -- for its owner
    party      TEXT    NOT NULL,             -- the relying party: the host it is for
    public_key TEXT    NOT NULL,             -- as a COSE_Key, in base64url
    uses       BIGINT  NOT NULL,             -- the authenticator's own count of signatures
    made_at    BIGINT  NOT NULL,
    used_at    BIGINT  NOT NULL              -- 0 for never
);
CREATE INDEX passkeys_by_party ON passkeys (party);
CREATE INDEX passkeys_of_account ON passkeys (account_id);
CREATE TABLE remembered_browsers (           -- in which a second factor was shown
    hash       TEXT    NOT NULL PRIMARY KEY, -- SHA-256 of the token in the cookie, in hexadecimal
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    proofs     BIGINT  NOT NULL,             -- it ends with the password
    made_at    BIGINT  NOT NULL,
    used_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL,
    network    TEXT    NOT NULL,
    agent      TEXT    NOT NULL
);
CREATE INDEX remembered_browsers_of_account ON remembered_browsers (account_id);
CREATE TABLE factor_resets (                 -- that somebody has lost what they had, and a steward takes it away; it waits
    account_id INTEGER NOT NULL PRIMARY KEY REFERENCES accounts (id) ON DELETE CASCADE,
    asked_at   BIGINT  NOT NULL,
    due_at     BIGINT  NOT NULL,
    asked_by   TEXT    NOT NULL
);
CREATE TABLE access_keys (
    hash       TEXT    NOT NULL PRIMARY KEY, -- SHA-256 of the token, in hexadecimal
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    name       TEXT    NOT NULL,
    roles      TEXT    NOT NULL,             -- that it carries, with spaces between; '*' for all that the account has
    networks   TEXT    NOT NULL,             -- from which it counts; '' for all
    made_at    BIGINT  NOT NULL,
    made_by    TEXT    NOT NULL,
    until_at   BIGINT  NOT NULL,             -- 0 for no end
    used_at    BIGINT  NOT NULL,             -- roughly; 0 for never
    used_from  TEXT    NOT NULL
);
CREATE INDEX access_keys_of_account ON access_keys (account_id);
CREATE TABLE elsewhere_links (               -- accounts that are held elsewhere
    issuer     TEXT    NOT NULL,
    subject    TEXT    NOT NULL,             -- who it is for the issuer, for ever
    provider   TEXT    NOT NULL,             -- as the policy names it
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    known_as   TEXT    NOT NULL,             -- an address or a name there, for people
    made_at    BIGINT  NOT NULL,
    used_at    BIGINT  NOT NULL,             -- 0 for never
    PRIMARY KEY (issuer, subject)
);
CREATE UNIQUE INDEX elsewhere_links_of_account ON elsewhere_links (account_id, provider);
CREATE TABLE elsewhere_sessions (            -- what a session is there, so that it ends here when it ends there
    family   TEXT NOT NULL PRIMARY KEY,      -- of the session
    issuer   TEXT NOT NULL,
    provider TEXT NOT NULL,
    subject  TEXT NOT NULL,
    sid      TEXT NOT NULL                   -- '' if the issuer has not said
);
CREATE INDEX elsewhere_sessions_by_subject ON elsewhere_sessions (issuer, subject);
