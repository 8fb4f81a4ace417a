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
