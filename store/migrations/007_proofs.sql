ALTER TABLE sessions ADD COLUMN how TEXT NOT NULL DEFAULT 'password';  -- its owner proved to be that last
ALTER TABLE accounts ADD COLUMN proofs BIGINT NOT NULL DEFAULT 0;     -- how often the password, or another proof, has changed
