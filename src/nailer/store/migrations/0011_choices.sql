-- What a person decided on rows of a pair's plan that is not carried out yet. `ends` is how both ends stood then: a choice
-- holds for these alone. `merged` is the text that both ends are to get.
CREATE TABLE IF NOT EXISTS sync_choices (
  account_id BIGINT UNSIGNED NOT NULL,
  pair_id    BIGINT UNSIGNED NOT NULL,
  direction  VARCHAR(10)     NOT NULL,
  place      BINARY(16)      NOT NULL,
  below      VARBINARY(4096) NOT NULL,
  ends       BINARY(16)      NOT NULL,
  doing      VARCHAR(16)     NOT NULL,
  merged     MEDIUMBLOB      NULL,
  PRIMARY KEY (account_id, pair_id, direction, place),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (pair_id) REFERENCES pairs (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
