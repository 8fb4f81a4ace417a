-- Searches for what breaks a page. `packages` are the paths that are searched among, the most suspect first; `answers` says for
-- each test whether the page was broken: from both a search goes on where it was cut.
CREATE TABLE IF NOT EXISTS package_searches (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  wish       TEXT            NOT NULL,
  packages   MEDIUMTEXT      NOT NULL,
  answers    MEDIUMTEXT      NOT NULL,
  state      VARCHAR(10)     NOT NULL,
  words      VARCHAR(500)    NOT NULL DEFAULT '',
  begun_at   DATETIME(6)     NOT NULL,
  ended_at   DATETIME(6)     NULL,
  KEY package_searches_of (site_id, id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- Packages that are set aside: written down before the rename is made, until the name is known to be back. One that a search
-- made is put back whatever happens.
CREATE TABLE IF NOT EXISTS set_asides (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  search_id  BIGINT UNSIGNED NULL,
  path       VARBINARY(4096) NOT NULL,
  aside      VARBINARY(4096) NOT NULL,
  title      VARCHAR(200)    NOT NULL,
  why        VARCHAR(300)    NOT NULL DEFAULT '',
  at         DATETIME(6)     NOT NULL,
  back_at    DATETIME(6)     NULL,
  KEY set_asides_open (site_id, back_at),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- Proved copies: every file of a folder with hash, access, time and links, as it was between two listings that agree. Contents lie
-- with the kept copies, once each; `copied_contents` keeps them from being let go.
CREATE TABLE IF NOT EXISTS proved_copies (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id      BIGINT UNSIGNED NOT NULL,
  account_id   BIGINT UNSIGNED NULL,
  path         VARBINARY(4096) NOT NULL,
  title        VARCHAR(200)    NOT NULL,
  state        VARCHAR(10)     NOT NULL,
  files        BIGINT UNSIGNED NOT NULL DEFAULT 0,
  bytes        BIGINT UNSIGNED NOT NULL DEFAULT 0,
  fetched      BIGINT UNSIGNED NOT NULL DEFAULT 0,
  problem      VARCHAR(500)    NOT NULL DEFAULT '',
  manifest     LONGBLOB        NULL,
  begun_at     DATETIME(6)     NOT NULL,
  ended_at     DATETIME(6)     NULL,
  rehearsed_at DATETIME(6)     NULL,
  rehearsal    VARCHAR(300)    NOT NULL DEFAULT '',
  KEY proved_copies_of (site_id, id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

CREATE TABLE IF NOT EXISTS copied_contents (
  copy_id BIGINT UNSIGNED NOT NULL,
  hash    BINARY(32)      NOT NULL,
  PRIMARY KEY (copy_id, hash),
  KEY copied_contents_by_hash (hash),
  FOREIGN KEY (copy_id) REFERENCES proved_copies (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
