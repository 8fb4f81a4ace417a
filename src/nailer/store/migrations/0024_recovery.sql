-- When a folder is copied by itself each day, for whom, and which of the copies made so stay.
CREATE TABLE IF NOT EXISTS copy_times (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL,
  path       VARBINARY(4096) NOT NULL,
  at         CHAR(5)         NOT NULL,
  zone       VARCHAR(60)     NOT NULL,
  daily      SMALLINT        NOT NULL,
  weekly     SMALLINT        NOT NULL,
  monthly    SMALLINT        NOT NULL,
  next_at    DATETIME(6)     NOT NULL,
  words      VARCHAR(500)    NOT NULL DEFAULT '',
  KEY copy_times_of (site_id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- The timer that a copy was made by: only these are let go by its rule.
ALTER TABLE proved_copies ADD COLUMN IF NOT EXISTS time_id BIGINT UNSIGNED NULL;

-- Folders for trying something on the live server: nobody can guess the name, and each has an end.
CREATE TABLE IF NOT EXISTS scratch_areas (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  path       VARBINARY(4096) NOT NULL,
  why        VARCHAR(300)    NOT NULL DEFAULT '',
  made_at    DATETIME(6)     NOT NULL,
  ends_at    DATETIME(6)     NOT NULL,
  gone_at    DATETIME(6)     NULL,
  problem    VARCHAR(500)    NOT NULL DEFAULT '',
  KEY scratch_areas_of (site_id, gone_at),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- The packages of a site as they were seen last, for what other pages say of them.
CREATE TABLE IF NOT EXISTS packages_seen (
  site_id  BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  packages MEDIUMTEXT      NOT NULL,
  seen_at  DATETIME(6)     NOT NULL,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
