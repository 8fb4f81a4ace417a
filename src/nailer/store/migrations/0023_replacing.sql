-- Packages as they were delivered lie beside the proved copies: `kind` tells them apart. `name` and `version` are what the files
-- declare, '' for none.
ALTER TABLE proved_copies ADD COLUMN IF NOT EXISTS kind VARCHAR(10) NOT NULL DEFAULT 'copy';
ALTER TABLE proved_copies ADD COLUMN IF NOT EXISTS name VARCHAR(120) NOT NULL DEFAULT '';
ALTER TABLE proved_copies ADD COLUMN IF NOT EXISTS version VARCHAR(60) NOT NULL DEFAULT '';

-- A version that takes the place of another. `fresh` and `kept` are the hidden names beside the package of the new version while it
-- is built, and of the old one for as long as it is kept; they are written down before they are used. `choices` are what a person
-- decided, `joined` the texts of both versions that were joined: both by the names below the package.
CREATE TABLE IF NOT EXISTS replacements (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id      BIGINT UNSIGNED NOT NULL,
  account_id   BIGINT UNSIGNED NULL,
  path         VARBINARY(4096) NOT NULL,
  kind         VARCHAR(10)     NOT NULL,
  state        VARCHAR(10)     NOT NULL,
  source       VARCHAR(300)    NOT NULL DEFAULT '',
  title        VARCHAR(200)    NOT NULL DEFAULT '',
  old_version  VARCHAR(60)     NOT NULL DEFAULT '',
  new_version  VARCHAR(60)     NOT NULL DEFAULT '',
  old_copy_id  BIGINT UNSIGNED NULL,
  new_copy_id  BIGINT UNSIGNED NULL,
  base_copy_id BIGINT UNSIGNED NULL,
  choices      MEDIUMTEXT      NOT NULL,
  joined       MEDIUMTEXT      NOT NULL,
  notes        TEXT            NOT NULL,
  in_place     BOOLEAN         NOT NULL DEFAULT FALSE,
  fresh        VARBINARY(4096) NULL,
  kept         VARBINARY(4096) NULL,
  job_id       BIGINT UNSIGNED NULL,
  removal_id   BIGINT UNSIGNED NULL,
  pages        MEDIUMTEXT      NOT NULL,
  words        VARCHAR(1000)   NOT NULL DEFAULT '',
  begun_at     DATETIME(6)     NOT NULL,
  ended_at     DATETIME(6)     NULL,
  let_go_at    DATETIME(6)     NULL,
  KEY replacements_of (site_id, id),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;
