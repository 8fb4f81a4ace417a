-- Temporary files that Nailer makes, each with the item it belongs to, until it is known to be gone. Not bound to the job: a
-- part outlives a job that was forgotten. `proofs` are points of a large file up to which its content is known: JSON of
-- [bytes, hash] pairs.
CREATE TABLE IF NOT EXISTS parts (
  item_id       BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  job_id        BIGINT UNSIGNED NOT NULL,
  site_id       BIGINT UNSIGNED NOT NULL,
  side          VARCHAR(5)      NOT NULL,
  path          VARBINARY(4096) NOT NULL,
  made_at       DATETIME(6)     NOT NULL,
  carried_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0,
  proofs        TEXT            NULL,
  KEY parts_by_job (job_id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- Whether files may be overwritten in place where the server lets nothing be renamed.
ALTER TABLE sites ADD COLUMN IF NOT EXISTS in_place BOOLEAN NOT NULL DEFAULT FALSE;

-- Whether the start folder is told from the account's home, which is known once somebody has signed in.
ALTER TABLE sites ADD COLUMN IF NOT EXISTS from_home BOOLEAN NOT NULL DEFAULT FALSE;
