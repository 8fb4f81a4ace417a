-- What Nailer has learned of sites. One row for each reading of a site; `trees` and `summary` are compressed JSON.
CREATE TABLE IF NOT EXISTS site_readings (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  is_account BOOLEAN         NOT NULL DEFAULT FALSE,
  state      VARCHAR(10)     NOT NULL,
  begun_at   DATETIME(6)     NOT NULL,
  ended_at   DATETIME(6)     NULL,
  problem    TEXT            NOT NULL,
  trees      LONGBLOB        NULL,
  summary    MEDIUMBLOB      NULL,
  KEY site_readings_of (site_id, id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- Files there that were read, as they were then: what they refer to, their hash, a picture's pixels. What is still the same
-- is not read again. `hash` is the path's; `read_at` is when the file was read.
CREATE TABLE IF NOT EXISTS read_files (
  site_id      BIGINT UNSIGNED NOT NULL,
  hash         BINARY(16)      NOT NULL,
  path         VARBINARY(4096) NOT NULL,
  size         BIGINT UNSIGNED NOT NULL,
  at_ns        BIGINT          NULL,
  precision_ns BIGINT          NULL,
  read_at      DATETIME(6)     NOT NULL,
  digest       BINARY(32)      NULL,
  width        INT UNSIGNED    NULL,
  height       INT UNSIGNED    NULL,
  has_places   BOOLEAN         NULL,
  links        MEDIUMBLOB      NULL,
  PRIMARY KEY (site_id, hash),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- What readings have found. A finding that is gone keeps its row, so that one that comes back says since when.
CREATE TABLE IF NOT EXISTS site_findings (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  kind       VARCHAR(30)     NOT NULL,
  hash       BINARY(16)      NOT NULL,
  data       MEDIUMTEXT      NOT NULL,
  first_at   DATETIME(6)     NOT NULL,
  last_at    DATETIME(6)     NOT NULL,
  gone_at    DATETIME(6)     NULL,
  ignored_at DATETIME(6)     NULL,
  ignored_by BIGINT UNSIGNED NULL,
  ignored    VARCHAR(300)    NOT NULL DEFAULT '',
  UNIQUE KEY site_findings_by_what (site_id, kind, hash),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (ignored_by) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- When a site is read by itself, and who is written to.
CREATE TABLE IF NOT EXISTS reading_times (
  site_id    BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  at         CHAR(5)         NOT NULL,
  zone       VARCHAR(60)     NOT NULL,
  next_at    DATETIME(6)     NOT NULL,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;

-- Facts of a site that checks have learned by trying, with what an earlier look said otherwise.
CREATE TABLE IF NOT EXISTS site_facts (
  site_id    BIGINT UNSIGNED NOT NULL,
  name       VARCHAR(300)    NOT NULL,
  value      TEXT            NOT NULL,
  how        VARCHAR(200)    NOT NULL,
  learned_at DATETIME(6)     NOT NULL,
  was        TEXT            NOT NULL DEFAULT '',
  was_at     DATETIME(6)     NULL,
  PRIMARY KEY (site_id, name),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
