-- People who sign in, their sessions, and refused sign-ins (counted by who was named and from where).
CREATE TABLE IF NOT EXISTS accounts (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name          VARCHAR(80) NOT NULL,
  password_hash VARCHAR(255) NOT NULL,
  created_at    DATETIME(6) NOT NULL,
  UNIQUE KEY accounts_by_name (name)
);

CREATE TABLE IF NOT EXISTS sessions (
  token_hash BINARY(32) NOT NULL PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  csrf       CHAR(43) CHARACTER SET ascii NOT NULL,
  created_at DATETIME(6) NOT NULL,
  ends_at    DATETIME(6) NOT NULL,
  KEY sessions_by_end (ends_at),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS refusals (
  who      VARCHAR(200) NOT NULL PRIMARY KEY,
  failures INT UNSIGNED NOT NULL,
  last_at  DATETIME(6) NOT NULL
);
