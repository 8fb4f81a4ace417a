-- Carrying at length: pauses, order, how often a job was taken up, jobs from one site to another, limits of speed, mail.
ALTER TABLE jobs
  ADD COLUMN IF NOT EXISTS pause_wanted   BOOLEAN         NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS priority       INT             NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS claims         INT UNSIGNED    NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS source_site_id BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS trouble_kind   VARCHAR(40)     NULL,
  ADD COLUMN IF NOT EXISTS room_bytes     BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS one_by_one     BOOLEAN         NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS advice         TEXT            NULL;

-- Limits of speed in bytes a second; NULL is none. Site 0 stands for all sites together. `hours` is JSON.
CREATE TABLE IF NOT EXISTS limits (
  site_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  up      BIGINT UNSIGNED NULL,
  down    BIGINT UNSIGNED NULL,
  hours   TEXT NOT NULL
);

-- Where a person is written to, and what happens when all jobs have ended.
ALTER TABLE accounts
  ADD COLUMN IF NOT EXISTS mail            VARCHAR(254) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS mail_when_done  BOOLEAN      NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS close_when_done BOOLEAN      NOT NULL DEFAULT FALSE;
