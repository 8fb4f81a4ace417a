-- Pairs: a folder here (or of another site, which then plays here) bound to a folder of a site. `folders` is JSON: what
-- stood below each folder at the last reading. `unsent` counts names that are newer here than there; NULL: not known.
CREATE TABLE IF NOT EXISTS pairs (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id       BIGINT UNSIGNED NOT NULL,
  other_site_id BIGINT UNSIGNED NULL,
  name          VARCHAR(120)    NOT NULL,
  here          VARBINARY(4096) NOT NULL,
  there         VARBINARY(4096) NOT NULL,
  place         BINARY(16)      NOT NULL,
  direction     VARCHAR(10)     NOT NULL,
  removals      VARCHAR(10)     NOT NULL,
  compare       VARCHAR(20)     NOT NULL,
  sends         BOOLEAN         NOT NULL DEFAULT FALSE,
  send_after_s  INT UNSIGNED    NOT NULL DEFAULT 5,
  sends_account BIGINT UNSIGNED NULL,
  read_at       DATETIME(6)     NULL,
  level_at      DATETIME(6)     NULL,
  folders       LONGTEXT        NULL,
  unsent        INT UNSIGNED    NULL,
  UNIQUE KEY pairs_by_place (site_id, place),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (other_site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- One carrying out of a plan: up to two jobs, one for each side that changes. `flow` and `told` are JSON.
CREATE TABLE IF NOT EXISTS sync_runs (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  pair_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL,
  timer_id   BIGINT UNSIGNED NULL,
  direction  VARCHAR(10)     NOT NULL,
  removals   VARCHAR(10)     NOT NULL,
  compare    VARCHAR(20)     NOT NULL,
  state      VARCHAR(12)     NOT NULL,
  there_job  BIGINT UNSIGNED NULL,
  here_job   BIGINT UNSIGNED NULL,
  flow       TEXT            NOT NULL,
  told       TEXT            NOT NULL,
  started_at DATETIME(6)     NOT NULL,
  ended_at   DATETIME(6)     NULL,
  KEY sync_runs_by_pair (pair_id, id),
  KEY sync_runs_by_timer (timer_id, id),
  FOREIGN KEY (pair_id) REFERENCES pairs (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- A job of a run knows its pair, the end that it changes, and the job that must have ended before it begins.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS pair_id   BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS towards   VARCHAR(5)      NULL,
  ADD COLUMN IF NOT EXISTS run_id    BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS after_job BIGINT UNSIGNED NULL;

ALTER TABLE jobs ADD INDEX IF NOT EXISTS jobs_by_run (run_id);

-- Folders are level, too: without that nobody could tell a removed one from a new one.
ALTER TABLE baselines
  ADD COLUMN IF NOT EXISTS kind VARCHAR(10) NOT NULL DEFAULT 'file';
