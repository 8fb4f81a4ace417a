-- Programs that act for a person: a token's hash, what of the person's rights it has, and until when. `sites` NULL: all.
CREATE TABLE IF NOT EXISTS tokens (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id BIGINT UNSIGNED NOT NULL,
  name       VARCHAR(80) NOT NULL,
  token_hash BINARY(32) NOT NULL,
  sites      LONGTEXT NULL,
  rights     VARCHAR(120) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  ends_at    DATETIME(6) NOT NULL,
  used_at    DATETIME(6) NULL,
  UNIQUE KEY tokens_by_hash (token_hash),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
);

-- What a request with an idempotency key was answered. `status` NULL: it is being worked on.
CREATE TABLE IF NOT EXISTS answered_requests (
  token_id     BIGINT UNSIGNED NOT NULL,
  request_key  BINARY(32) NOT NULL,
  request_hash BINARY(32) NOT NULL,
  status       SMALLINT UNSIGNED NULL,
  body         LONGTEXT NULL,
  at           DATETIME(6) NOT NULL,
  PRIMARY KEY (token_id, request_key),
  KEY answered_by_time (at),
  FOREIGN KEY (token_id) REFERENCES tokens (id) ON DELETE CASCADE
);
