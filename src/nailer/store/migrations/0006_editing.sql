-- Files that are open in the editor. `base` is what was opened or saved last (NULL size: a new file); `text` is what was
-- typed since, NULL where nothing was. One row an account and file.
CREATE TABLE IF NOT EXISTS drafts (
  id                BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id        BIGINT UNSIGNED NOT NULL,
  site_id           BIGINT UNSIGNED NOT NULL,
  side              VARCHAR(5)      NOT NULL,
  path              VARBINARY(4096) NOT NULL,
  path_hash         BINARY(16)      NOT NULL,
  base              LONGBLOB        NOT NULL,
  base_size         BIGINT UNSIGNED NULL,
  base_time_ns      BIGINT          NULL,
  base_precision_ns BIGINT          NULL,
  encoding          VARCHAR(30)     NOT NULL,
  mark              BOOLEAN         NOT NULL,
  line_end          VARCHAR(2)      NOT NULL,
  mixed             BOOLEAN         NOT NULL,
  text              LONGTEXT        NULL,
  history           LONGTEXT        NULL,
  opened_at         DATETIME(6)     NOT NULL,
  changed_at        DATETIME(6)     NULL,
  seen_at           DATETIME(6)     NOT NULL,
  UNIQUE KEY drafts_by_file (account_id, site_id, side, path_hash),
  KEY drafts_of_site (site_id, side, path_hash),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- How a site's files are edited and looked after: what saving does, which pages are watched, how its cache is emptied.
CREATE TABLE IF NOT EXISTS site_ways (
  site_id       BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  save_asks     BOOLEAN         NOT NULL DEFAULT FALSE,
  guarded_save  BOOLEAN         NOT NULL DEFAULT FALSE,
  watched       TEXT            NOT NULL,
  purge_address VARCHAR(2000)   NOT NULL DEFAULT '',
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- Access that was set: what it was before is in before_access, what it is now here.
ALTER TABLE changes
  ADD COLUMN IF NOT EXISTS after_access SMALLINT UNSIGNED NULL;

ALTER TABLE items
  ADD COLUMN IF NOT EXISTS seen_access SMALLINT UNSIGNED NULL;

-- How long, and how much of, what changes replaced is kept. One row; NULL is no limit.
CREATE TABLE IF NOT EXISTS keeping (
  id    TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  days  INT UNSIGNED     NULL,
  bytes BIGINT UNSIGNED  NULL
);

-- Files that somebody edits with a program of their own: their copy here is watched, and what is saved is sent or offered.
-- `content` is a hash of what both sides held last; `saved_at` is set while a save waits to be sent.
CREATE TABLE IF NOT EXISTS own_files (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  site_id    BIGINT UNSIGNED NOT NULL,
  here       VARBINARY(4096) NOT NULL,
  there      VARBINARY(4096) NOT NULL,
  path_hash  BINARY(16)      NOT NULL,
  content    BINARY(32)      NOT NULL,
  sends      BOOLEAN         NOT NULL DEFAULT FALSE,
  saved_at   DATETIME(6)     NULL,
  trouble    VARCHAR(500)    NOT NULL DEFAULT '',
  UNIQUE KEY own_files_by_path (account_id, site_id, path_hash),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
