-- Plans of pairs at set times. `next_at` is UTC; `claimed_until` is set while a run is being made, so that no two are.
CREATE TABLE IF NOT EXISTS timers (
  id            BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  account_id    BIGINT UNSIGNED NOT NULL,
  pair_id       BIGINT UNSIGNED NOT NULL,
  name          VARCHAR(120)    NOT NULL,
  direction     VARCHAR(10)     NOT NULL,
  removals      VARCHAR(10)     NOT NULL,
  compare       VARCHAR(20)     NOT NULL,
  every         VARCHAR(10)     NOT NULL,
  spec          VARCHAR(120)    NOT NULL,
  zone          VARCHAR(60)     NOT NULL,
  is_on         BOOLEAN         NOT NULL DEFAULT TRUE,
  mail          VARCHAR(10)     NOT NULL,
  missed        VARCHAR(10)     NOT NULL,
  clashes       VARCHAR(10)     NOT NULL,
  next_at       DATETIME(6)     NULL,
  claimed_until DATETIME(6)     NULL,
  KEY timers_due (is_on, next_at),
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE,
  FOREIGN KEY (pair_id) REFERENCES pairs (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
