-- How Nailer looks and works for a person: JSON; NULL: as usual.
ALTER TABLE accounts ADD COLUMN IF NOT EXISTS preferences TEXT NULL;
