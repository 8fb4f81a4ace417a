-- A site on which every uploaded file is read back and compared, for servers whose answers cannot be trusted.
ALTER TABLE sites ADD COLUMN IF NOT EXISTS reads_back BOOLEAN NOT NULL DEFAULT FALSE;
