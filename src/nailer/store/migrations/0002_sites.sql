-- Sites in nested groups. Names on servers are bytes. A credential can serve several sites; its secrets are sealed.
CREATE TABLE IF NOT EXISTS site_groups (
  id        BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  parent_id BIGINT UNSIGNED NULL,
  name      VARCHAR(120) NOT NULL,
  position  INT NOT NULL DEFAULT 0,
  FOREIGN KEY (parent_id) REFERENCES site_groups (id)
);

CREATE TABLE IF NOT EXISTS credentials (
  id                 BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  label              VARCHAR(120) NOT NULL,
  sealed_password    VARBINARY(4096) NULL,
  sealed_private_key VARBINARY(16384) NULL,
  sealed_passphrase  VARBINARY(4096) NULL,
  created_at         DATETIME(6) NOT NULL
);

CREATE TABLE IF NOT EXISTS sites (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  group_id      BIGINT UNSIGNED NULL,
  position      INT NOT NULL DEFAULT 0,
  name          VARCHAR(120) NOT NULL,
  colour        VARCHAR(20) NOT NULL DEFAULT 'slate',
  protocol      VARCHAR(20) NOT NULL,
  host          VARCHAR(255) NOT NULL,
  port          INT UNSIGNED NOT NULL,
  user_name     VARCHAR(255) NOT NULL,
  credential_id BIGINT UNSIGNED NULL,
  start_here    VARBINARY(4096) NOT NULL,
  start_there   VARBINARY(4096) NOT NULL,
  note          TEXT NOT NULL,
  created_at    DATETIME(6) NOT NULL,
  opened_at     DATETIME(6) NULL,
  FOREIGN KEY (group_id) REFERENCES site_groups (id),
  FOREIGN KEY (credential_id) REFERENCES credentials (id)
);

CREATE TABLE IF NOT EXISTS document_roots (
  site_id  BIGINT UNSIGNED NOT NULL,
  position INT NOT NULL,
  folder   VARBINARY(4096) NOT NULL,
  address  VARCHAR(1024) NOT NULL,
  PRIMARY KEY (site_id, position),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS guarded_folders (
  site_id BIGINT UNSIGNED NOT NULL,
  folder  VARBINARY(700) NOT NULL,
  PRIMARY KEY (site_id, folder),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- Identities that a person chose to trust, by the name and port they know the server by.
CREATE TABLE IF NOT EXISTS pinned_keys (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  host        VARCHAR(255) NOT NULL,
  port        INT UNSIGNED NOT NULL,
  algorithm   VARCHAR(80) NOT NULL,
  fingerprint VARCHAR(100) NOT NULL,
  public_key  TEXT NOT NULL,
  trusted_at  DATETIME(6) NOT NULL,
  trusted_by  BIGINT UNSIGNED NULL,
  how         VARCHAR(40) NOT NULL,
  KEY pinned_keys_by_server (host, port)
);
