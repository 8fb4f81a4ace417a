-- What whoever handed a site over says that its server shows: compared at the first meeting.
ALTER TABLE sites ADD COLUMN IF NOT EXISTS fingerprint VARCHAR(120) NOT NULL DEFAULT '';
