-- Names that a person picked in several folders of a site, until they are carried.
CREATE TABLE IF NOT EXISTS tray (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  site_id    BIGINT UNSIGNED NOT NULL,
  place      BINARY(16)      NOT NULL,
  here       VARBINARY(4096) NOT NULL,
  there      VARBINARY(4096) NOT NULL,
  name       VARBINARY(255)  NOT NULL,
  UNIQUE KEY tray_by_name (account_id, site_id, place, name),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
