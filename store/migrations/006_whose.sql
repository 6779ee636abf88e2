ALTER TABLE activity ADD COLUMN account_id BIGINT NOT NULL DEFAULT 0; -- whom it is about, whatever the name is by now; 0 if that is no account
ALTER TABLE activity ADD COLUMN actor_id BIGINT NOT NULL DEFAULT 0;   -- who did it
UPDATE activity SET account_id = COALESCE((SELECT id FROM accounts WHERE accounts.name = activity.account), 0) WHERE account <> '' AND kind NOT LIKE 'credentials %';
UPDATE activity SET actor_id = COALESCE((SELECT id FROM accounts WHERE accounts.name = activity.actor), 0) WHERE actor <> '';
CREATE INDEX activity_by_account_id ON activity (account_id);
CREATE INDEX activity_by_actor_id ON activity (actor_id);
