ALTER TABLE accounts ADD COLUMN language TEXT NOT NULL DEFAULT '';  -- in which its owner reads; '' for not known
CREATE TABLE recoveries (                     -- what was asked for and is answered by mail, a moment later
    id        INTEGER PRIMARY KEY,
    name_key  TEXT   NOT NULL,                -- as a name is looked up
    email_key TEXT   NOT NULL,                -- as an address is, '' if it is none
    language  TEXT   NOT NULL,
    network   TEXT   NOT NULL,
    at        BIGINT NOT NULL
);
CREATE TABLE address_links (
    token_hash TEXT    NOT NULL PRIMARY KEY,
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    undo       INTEGER NOT NULL,              -- 1: takes back a change; 0: makes it
    address    TEXT    NOT NULL,              -- that the account gets
    before     TEXT    NOT NULL,              -- that it must have until then, in the form in which it is compared
    made_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL
);
CREATE INDEX address_links_of_account ON address_links (account_id);
