-- Texts to search in, with letters as names are compared, lines apart; what is there is written once more by the program, which folds all letters.
ALTER TABLE accounts ADD COLUMN words TEXT NOT NULL DEFAULT '';
UPDATE accounts SET words = name_key || '
' || email_key || '
' || lower(notes);
ALTER TABLE activity ADD COLUMN words TEXT NOT NULL DEFAULT '';
ALTER TABLE activity ADD COLUMN account_key TEXT NOT NULL DEFAULT '';
ALTER TABLE activity ADD COLUMN actor_key TEXT NOT NULL DEFAULT '';
UPDATE activity SET account_key = lower(account), actor_key = lower(actor), words = lower(kind || '
' || account || '
' || actor || '
' || detail || '
' || place || '
' || network || '
' || reference);
