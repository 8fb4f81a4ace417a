-- How many folders of a run's plan could not be read, or not whole: what lies in them was not compared.
ALTER TABLE sync_runs ADD COLUMN IF NOT EXISTS not_read INT UNSIGNED NOT NULL DEFAULT 0;
