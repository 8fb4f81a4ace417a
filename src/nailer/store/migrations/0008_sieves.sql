-- Sieves in their order. `rule` and `always` are JSON. `off_since` is set while a sieve is switched off.
CREATE TABLE IF NOT EXISTS sieves (
  id         BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  position   INT             NOT NULL,
  name       VARCHAR(120)    NOT NULL,
  rule       TEXT            NOT NULL,
  always     TEXT            NOT NULL,
  stays      BOOLEAN         NOT NULL,
  unseen     BOOLEAN         NOT NULL,
  everywhere BOOLEAN         NOT NULL,
  off_since  DATETIME(6)     NULL
) DEFAULT CHARSET = utf8mb4;

-- Which pairs have picked a sieve that does not hold everywhere.
CREATE TABLE IF NOT EXISTS pair_sieves (
  pair_id  BIGINT UNSIGNED NOT NULL,
  sieve_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (pair_id, sieve_id),
  FOREIGN KEY (pair_id) REFERENCES pairs (id) ON DELETE CASCADE,
  FOREIGN KEY (sieve_id) REFERENCES sieves (id) ON DELETE CASCADE
);
