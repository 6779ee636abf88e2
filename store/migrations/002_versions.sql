CREATE TABLE versions (
    id      INTEGER PRIMARY KEY, -- counted from 1
    at      BIGINT  NOT NULL,
    actor   TEXT    NOT NULL,    -- who brought it into force
    comment TEXT    NOT NULL,
    text    TEXT    NOT NULL     -- the whole policy file
);
