CREATE INDEX sessions_by_use ON sessions (seen_at, token_hash);         -- lists begin with the latest used
CREATE INDEX sessions_by_network ON sessions (network);
CREATE INDEX sessions_by_agent ON sessions (agent);
CREATE INDEX activity_by_kind ON activity (kind, id);
CREATE INDEX activity_by_door ON activity (door, id);
CREATE INDEX activity_by_network ON activity (network, id);
CREATE INDEX accounts_by_age ON accounts (made_at, id);
CREATE TABLE known_places (             -- where a password was right before
    what    TEXT   NOT NULL,            -- as its tries are counted
    network TEXT   NOT NULL,
    at      BIGINT NOT NULL,
    PRIMARY KEY (what, network)
);
