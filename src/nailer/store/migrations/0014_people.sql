-- Several people: who runs Nailer, who is let in how far, what was done, and what proves who somebody is.
ALTER TABLE accounts
  ADD COLUMN IF NOT EXISTS is_admin     BOOLEAN NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS is_off       BOOLEAN NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS needs_second BOOLEAN NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS code_secret  VARBINARY(400) NULL,
  ADD COLUMN IF NOT EXISTS code_step    BIGINT UNSIGNED NOT NULL DEFAULT 0;

-- So far whoever had an account could do everything.
UPDATE accounts SET is_admin = 1;

-- `half`: the password was right, and the second proof is still to come.
ALTER TABLE sessions
  ADD COLUMN IF NOT EXISTS id      BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE,
  ADD COLUMN IF NOT EXISTS half    BOOLEAN NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS device  VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS address VARCHAR(60) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS seen_at DATETIME(6) NULL;

CREATE TABLE IF NOT EXISTS passkeys (
  id              BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id      BIGINT UNSIGNED NOT NULL,
  credential_hash BINARY(32) NOT NULL,
  credential      VARBINARY(1023) NOT NULL,
  public_key      VARBINARY(2000) NOT NULL,
  sign_count      BIGINT UNSIGNED NOT NULL,
  name            VARCHAR(80) NOT NULL,
  created_at      DATETIME(6) NOT NULL,
  used_at         DATETIME(6) NULL,
  UNIQUE KEY passkeys_by_credential (credential_hash),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS recovery_codes (
  account_id BIGINT UNSIGNED NOT NULL,
  code_hash  BINARY(32) NOT NULL,
  PRIMARY KEY (account_id, code_hash),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
);

-- An invitation makes an account once. `grants` are the sites that the account begins with, as JSON.
CREATE TABLE IF NOT EXISTS invitations (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  token_hash BINARY(32) NOT NULL,
  name       VARCHAR(80) NOT NULL,
  is_admin   BOOLEAN NOT NULL,
  grants     LONGTEXT NOT NULL,
  made_by    BIGINT UNSIGNED NULL,
  made_at    DATETIME(6) NOT NULL,
  ends_at    DATETIME(6) NOT NULL,
  UNIQUE KEY invitations_by_token (token_hash),
  FOREIGN KEY (made_by) REFERENCES accounts (id) ON DELETE SET NULL
);

-- What a person may do on a site. `rights` are words with commas. Folders NULL: the whole site.
CREATE TABLE IF NOT EXISTS grants (
  account_id   BIGINT UNSIGNED NOT NULL,
  site_id      BIGINT UNSIGNED NOT NULL,
  rights       VARCHAR(120) NOT NULL,
  folder_there VARBINARY(4096) NULL,
  folder_here  VARBINARY(4096) NULL,
  PRIMARY KEY (account_id, site_id),
  KEY grants_by_site (site_id),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- Who did what. Rows are only added, and forgotten when they are older than they are to be kept: names stand here as they
-- were, for people and sites that are gone.
CREATE TABLE IF NOT EXISTS log_entries (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at         DATETIME(6) NOT NULL,
  account_id BIGINT UNSIGNED NULL,
  person     VARCHAR(80) NOT NULL,
  program    VARCHAR(80) NOT NULL,
  address    VARCHAR(60) NOT NULL,
  kind       VARCHAR(40) NOT NULL,
  site_id    BIGINT UNSIGNED NULL,
  site       VARCHAR(120) NOT NULL,
  said       VARCHAR(1000) NOT NULL,
  KEY log_by_time (at),
  KEY log_by_site (site_id, id)
);
