CREATE TABLE patrols (                       -- walks through the running site
    id       INTEGER PRIMARY KEY,
    began_at BIGINT  NOT NULL,
    ended_at BIGINT  NOT NULL,               -- 0 for one that was not ended
    by_whom  TEXT    NOT NULL,               -- '' for the timetable
    problem  TEXT    NOT NULL,               -- why it could not be made; '' for none
    visited  INTEGER NOT NULL,
    fresh    INTEGER NOT NULL,               -- findings that the one before has not told
    found    INTEGER NOT NULL,
    result   TEXT    NOT NULL                -- JSON
);
CREATE TABLE patrol_accepted (               -- findings that somebody has looked at, and lives with
    finding  TEXT   NOT NULL PRIMARY KEY,    -- its rule, path, visitor and message
    reason   TEXT   NOT NULL,
    by_whom  TEXT   NOT NULL,
    at       BIGINT NOT NULL,
    until_at BIGINT NOT NULL                 -- 0 for no end
);
