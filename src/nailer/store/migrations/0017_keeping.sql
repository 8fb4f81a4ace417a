-- Names that nothing may remove: until a day (NULL: until the mark is taken off), because of what somebody wrote down.
CREATE TABLE IF NOT EXISTS keep_marks (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id    BIGINT UNSIGNED NOT NULL,
  side       VARCHAR(5)      NOT NULL,
  place      BINARY(16)      NOT NULL,
  path       VARBINARY(4096) NOT NULL,
  until      DATE            NULL,
  why        VARCHAR(200)    NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  made_at    DATETIME(6)     NOT NULL,
  UNIQUE KEY keep_marks_by_place (site_id, side, place),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

-- Guarded folders are proposed once, when a site is opened first. Sites of before have theirs.
ALTER TABLE sites ADD COLUMN IF NOT EXISTS guards_proposed BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE sites ALTER COLUMN guards_proposed SET DEFAULT FALSE;
