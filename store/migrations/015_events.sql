ALTER TABLE accounts ADD COLUMN proven_at BIGINT NOT NULL DEFAULT 0;  -- when its owner followed a link that was sent to its address; 0 for not yet
ALTER TABLE links ADD COLUMN mailed INTEGER NOT NULL DEFAULT 0;       -- 1: only who reads the mail of the account can have it
CREATE TABLE grants_now (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    role       TEXT    NOT NULL,
    way        TEXT    NOT NULL,            -- how it was granted: '' by somebody, 'bought', 'after' and the role that came before
    from_at    BIGINT  NOT NULL,
    until_at   BIGINT  NOT NULL,            -- 0 for no end
    granted_by TEXT    NOT NULL,
    order_no   TEXT    NOT NULL,            -- of the latest order; '' for none
    told       INTEGER NOT NULL,            -- 1: that it has begun was told to other programs, 2: that it has ended too
    PRIMARY KEY (account_id, role, way)
);
INSERT INTO grants_now (account_id, role, way, from_at, until_at, granted_by, order_no, told) SELECT account_id, role, '', from_at, until_at, granted_by, '', 1 FROM grants;
DROP TABLE grants;
ALTER TABLE grants_now RENAME TO grants;
CREATE INDEX grants_by_role_end ON grants (role, until_at, account_id, way, from_at);   -- the members are listed and counted from these four alone
CREATE INDEX grants_by_role_begin ON grants (role, from_at, account_id, way, until_at);
CREATE INDEX grants_by_end ON grants (until_at, account_id, role, way, from_at);
CREATE INDEX grants_by_begin ON grants (from_at, account_id, role, way, until_at);
CREATE INDEX grants_by_telling ON grants (told, until_at);
CREATE TABLE reminders (                    -- that were sent
    what     TEXT   NOT NULL,               -- the account and the role, or the pass
    until_at BIGINT NOT NULL,               -- the end that it was about
    ahead    BIGINT NOT NULL,               -- milliseconds before it
    PRIMARY KEY (what, until_at, ahead)
);
CREATE TABLE event_secrets (
    id       INTEGER PRIMARY KEY,
    secret   TEXT   NOT NULL,
    made_at  BIGINT NOT NULL,
    made_by  TEXT   NOT NULL,
    until_at BIGINT NOT NULL                -- 0 for no end
);
CREATE TABLE events (
    id         INTEGER PRIMARY KEY,
    source     TEXT   NOT NULL,             -- 'shop' or 'list'
    number     TEXT   NOT NULL,             -- that its sender gave it
    at         BIGINT NOT NULL,             -- when it came
    type       TEXT   NOT NULL,
    order_no   TEXT   NOT NULL,
    address    TEXT   NOT NULL,
    body       TEXT   NOT NULL,             -- what it says, as we write it; '' once who it is about has left
    state      TEXT   NOT NULL,
    problem    TEXT   NOT NULL,             -- why it is kept
    done_at    BIGINT NOT NULL,             -- 0 for not yet
    words      TEXT   NOT NULL,             -- in which is searched
    UNIQUE (source, number)
);
CREATE INDEX events_by_state ON events (state, id);
CREATE INDEX events_by_order ON events (order_no, id);
CREATE TABLE orders (
    number      TEXT   NOT NULL PRIMARY KEY,
    address     TEXT   NOT NULL,
    address_key TEXT   NOT NULL,
    name        TEXT   NOT NULL,
    language    TEXT   NOT NULL,
    account_id  BIGINT NOT NULL,            -- who has what was bought; 0 for nobody yet
    made_at     BIGINT NOT NULL
);
CREATE INDEX orders_by_address ON orders (address_key);
CREATE INDEX orders_by_account ON orders (account_id);
CREATE TABLE payments (
    id          INTEGER PRIMARY KEY,
    order_no    TEXT    NOT NULL,
    item        TEXT    NOT NULL,
    title       TEXT    NOT NULL,
    seq         BIGINT  NOT NULL,           -- the event
    at          BIGINT  NOT NULL,
    told        INTEGER NOT NULL,           -- 1: the shop has said when
    again       INTEGER NOT NULL,
    role        TEXT    NOT NULL,           -- one of role and kind
    kind        TEXT    NOT NULL,
    pass_id     TEXT    NOT NULL,
    lasts       BIGINT  NOT NULL,           -- milliseconds; 0 for no end, or until_at
    until_at    BIGINT  NOT NULL,
    grace       BIGINT  NOT NULL,
    after_role  TEXT    NOT NULL,
    after_lasts BIGINT  NOT NULL,
    taken_at    BIGINT  NOT NULL,
    account_id  BIGINT  NOT NULL            -- as that of the order
);
CREATE INDEX payments_by_order ON payments (order_no);
CREATE INDEX payments_by_account ON payments (account_id, role);
CREATE TABLE order_marks (
    order_no TEXT    NOT NULL,
    item     TEXT    NOT NULL,              -- '' for all
    what     TEXT    NOT NULL,
    seq      BIGINT  NOT NULL,
    at       BIGINT  NOT NULL,
    told     INTEGER NOT NULL
);
CREATE INDEX order_marks_by_order ON order_marks (order_no);
CREATE TABLE claims (                       -- links with which buyers take what they bought
    token_hash  TEXT   NOT NULL PRIMARY KEY,
    address     TEXT   NOT NULL,
    address_key TEXT   NOT NULL,
    language    TEXT   NOT NULL,
    made_at     BIGINT NOT NULL,
    until_at    BIGINT NOT NULL
);
CREATE INDEX claims_by_address ON claims (address_key);
CREATE TABLE targets (                      -- programs that are told what happens
    id      INTEGER PRIMARY KEY,
    url     TEXT   NOT NULL,
    kinds   TEXT   NOT NULL,                -- separated by spaces
    secret  TEXT   NOT NULL,
    made_at BIGINT NOT NULL,
    made_by TEXT   NOT NULL
);
ALTER TABLE activity ADD COLUMN told INTEGER NOT NULL DEFAULT 1;       -- 0: other programs are to be told of it
ALTER TABLE activity ADD COLUMN data TEXT NOT NULL DEFAULT '';         -- what more they are told, a JSON object
CREATE INDEX activity_untold ON activity (id) WHERE told = 0;
CREATE INDEX passes_by_end ON passes (until_at);
ALTER TABLE messages ADD COLUMN way TEXT NOT NULL DEFAULT 'mail';     -- or 'event'
DROP INDEX messages_waiting;
CREATE INDEX messages_waiting ON messages (way, state, next_at);
