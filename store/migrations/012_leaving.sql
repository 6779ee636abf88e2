ALTER TABLE accounts ADD COLUMN leaves_at BIGINT NOT NULL DEFAULT 0;  -- when it is deleted since its owner wants that; 0 for not at all
CREATE INDEX accounts_by_leaving ON accounts (leaves_at);
