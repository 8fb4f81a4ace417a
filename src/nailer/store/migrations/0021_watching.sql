-- Jobs whose pages are watched: fetched before it begins and after it ends; what makes a page worse is taken back.
-- `before_answers` is NULL until the job is confirmed, `ended_at` until it is known how the pages are afterwards.
CREATE TABLE IF NOT EXISTS watched_jobs (
  job_id         BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  addresses      TEXT            NOT NULL,
  before_answers TEXT            NULL,
  worse          TEXT            NULL,
  back_job_id    BIGINT UNSIGNED NULL,
  ended_at       DATETIME(6)     NULL,
  FOREIGN KEY (job_id) REFERENCES jobs (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- Facts of a host that checks have learned on one of its sites, with what contradicted them. `account` is the user name of
-- what holds for one account there only, else ''.
CREATE TABLE IF NOT EXISTS host_facts (
  host       VARCHAR(253)    NOT NULL,
  account    VARCHAR(200)    NOT NULL DEFAULT '',
  name       VARCHAR(200)    NOT NULL,
  value      VARCHAR(500)    NOT NULL,
  how        VARCHAR(200)    NOT NULL,
  site_id    BIGINT UNSIGNED NULL,
  learned_at DATETIME(6)     NOT NULL,
  was        VARCHAR(500)    NOT NULL DEFAULT '',
  was_at     DATETIME(6)     NULL,
  PRIMARY KEY (host, account, name),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- Whether a reading asks the links that lead to other sites, too.
ALTER TABLE site_readings ADD COLUMN IF NOT EXISTS asks_others BOOLEAN NOT NULL DEFAULT FALSE;
