CREATE TABLE messages (
    id         INTEGER PRIMARY KEY,
    reference  TEXT    NOT NULL UNIQUE,      -- makes the Message-ID
    kind       TEXT    NOT NULL,
    to_address TEXT    NOT NULL,
    account    TEXT    NOT NULL,             -- the name of whom it is about
    account_id BIGINT  NOT NULL,             -- 0 for nobody
    language   TEXT    NOT NULL,
    gaps       TEXT    NOT NULL,             -- a JSON object; '' once it is sent or dropped
    link       TEXT    NOT NULL,             -- likewise: it has a token
    state      TEXT    NOT NULL,
    made_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL,
    tries      INTEGER NOT NULL DEFAULT 0,
    next_at    BIGINT  NOT NULL,
    problem    TEXT    NOT NULL DEFAULT '',
    ended_at   BIGINT  NOT NULL DEFAULT 0,   -- 0 for not yet
    words      TEXT    NOT NULL              -- in which is searched
);
CREATE INDEX messages_waiting ON messages (state, next_at);
CREATE INDEX messages_of_account ON messages (account_id);
