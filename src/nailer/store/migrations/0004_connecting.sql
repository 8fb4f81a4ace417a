-- Every protocol and every sign-in: how to speak with a server, what it was found to do, and who it was known to be.
ALTER TABLE sites
  ADD COLUMN IF NOT EXISTS password_kept    VARCHAR(10)   NOT NULL DEFAULT 'stored',
  ADD COLUMN IF NOT EXISTS key_file         VARCHAR(1024) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS agent            BOOLEAN       NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS old_allowed      BOOLEAN       NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS passive          BOOLEAN       NOT NULL DEFAULT TRUE,
  ADD COLUMN IF NOT EXISTS charset          VARCHAR(20)   NOT NULL DEFAULT 'utf-8',
  ADD COLUMN IF NOT EXISTS connections_most INT UNSIGNED  NOT NULL DEFAULT 4,
  ADD COLUMN IF NOT EXISTS proxy_kind       VARCHAR(10)   NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS proxy_host       VARCHAR(255)  NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS proxy_port       INT UNSIGNED  NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS proxy_user       VARCHAR(255)  NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS clock_offset_s   INT           NULL,
  ADD COLUMN IF NOT EXISTS clock_how        VARCHAR(10)   NOT NULL DEFAULT 'measured',
  ADD COLUMN IF NOT EXISTS file_access      INT UNSIGNED  NULL,
  ADD COLUMN IF NOT EXISTS folder_access    INT UNSIGNED  NULL,
  ADD COLUMN IF NOT EXISTS package_bytes    BIGINT UNSIGNED NULL,
  ADD COLUMN IF NOT EXISTS fleeting         BOOLEAN       NOT NULL DEFAULT FALSE,
  ADD COLUMN IF NOT EXISTS learned          TEXT          NULL,
  ADD COLUMN IF NOT EXISTS learned_at       DATETIME(6)   NULL;

ALTER TABLE credentials
  ADD COLUMN IF NOT EXISTS sealed_one_time_secret VARBINARY(4096) NULL,
  ADD COLUMN IF NOT EXISTS sealed_proxy_password  VARBINARY(4096) NULL;

-- A certificate's fingerprint is longer than a key's.
ALTER TABLE pinned_keys MODIFY COLUMN fingerprint VARCHAR(160) NOT NULL;

-- How each server's identity came to be trusted, was replaced or removed.
CREATE TABLE IF NOT EXISTS identity_events (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  host        VARCHAR(255) NOT NULL,
  port        INT UNSIGNED NOT NULL,
  what        VARCHAR(20) NOT NULL,
  algorithm   VARCHAR(80) NOT NULL,
  fingerprint VARCHAR(160) NOT NULL,
  how         VARCHAR(120) NOT NULL,
  account_id  BIGINT UNSIGNED NULL,
  happened_at DATETIME(6) NOT NULL,
  KEY identity_events_by_server (host, port)
);

-- Folder pairs that a person has pinned or was in lately. `place` is the digest of both paths, which are too long for a key.
CREATE TABLE IF NOT EXISTS site_places (
  site_id    BIGINT UNSIGNED NOT NULL,
  account_id BIGINT UNSIGNED NOT NULL,
  place      BINARY(16) NOT NULL,
  here       VARBINARY(4096) NOT NULL,
  there      VARBINARY(4096) NOT NULL,
  pinned     BOOLEAN NOT NULL DEFAULT FALSE,
  visited_at DATETIME(6) NOT NULL,
  PRIMARY KEY (site_id, account_id, place),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);
