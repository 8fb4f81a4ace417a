-- A timer makes a plan of a pair, or carries picked names of one folder of a site into another. `names` are joined by
-- slashes, which no name can hold.
ALTER TABLE timers
  MODIFY COLUMN pair_id BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS site_id       BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS to_side       VARCHAR(5)      NULL,
  ADD COLUMN IF NOT EXISTS source_folder VARBINARY(4096) NULL,
  ADD COLUMN IF NOT EXISTS target_folder VARBINARY(4096) NULL,
  ADD COLUMN IF NOT EXISTS names         MEDIUMBLOB      NULL,
  ADD CONSTRAINT timers_site FOREIGN KEY IF NOT EXISTS timers_site (site_id) REFERENCES sites (id) ON DELETE CASCADE;

-- What became of the jobs of a timer that carries. `told` is JSON; `files` and `bytes` are what was to be carried.
CREATE TABLE IF NOT EXISTS timer_jobs (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  timer_id   BIGINT UNSIGNED NOT NULL,
  job_id     BIGINT UNSIGNED NULL,
  state      VARCHAR(12)     NOT NULL,
  told       TEXT            NOT NULL,
  files      INT UNSIGNED    NOT NULL,
  bytes      BIGINT UNSIGNED NOT NULL,
  started_at DATETIME(6)     NOT NULL,
  ended_at   DATETIME(6)     NULL,
  KEY timer_jobs_by_timer (timer_id, id),
  FOREIGN KEY (timer_id) REFERENCES timers (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
