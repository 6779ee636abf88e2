CREATE TABLE keyring_entries (
    keyring   TEXT    NOT NULL,
    name      TEXT    NOT NULL,
    hash      TEXT    NOT NULL,
    note      TEXT    NOT NULL DEFAULT '',
    disabled  INTEGER NOT NULL DEFAULT 0,
    made_at   BIGINT  NOT NULL,
    made_by   TEXT    NOT NULL,
    used_at   BIGINT  NOT NULL DEFAULT 0, -- roughly; 0 for never
    until_at  BIGINT  NOT NULL DEFAULT 0, -- 0 for no end
    old_hash  TEXT    NOT NULL DEFAULT '', -- of the password before, while it still counts
    old_until BIGINT  NOT NULL DEFAULT 0,
    PRIMARY KEY (keyring, name)
);
