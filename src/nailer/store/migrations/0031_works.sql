-- Long work that is under way: who does it, and until when that holds. A row goes in the transaction that writes down how its
-- work ended. `subject_id` is the row that the work is about; `alone` keeps a second one of its kind from a site.
CREATE TABLE IF NOT EXISTS works (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  kind        VARCHAR(20)     NOT NULL,
  site_id     BIGINT UNSIGNED NOT NULL,
  subject_id  BIGINT UNSIGNED NOT NULL,
  account_id  BIGINT UNSIGNED NULL,
  alone       VARCHAR(40)     NULL,
  owner       VARCHAR(120)    NULL,
  lease_until DATETIME(6)     NULL,
  claims      INT UNSIGNED    NOT NULL DEFAULT 1,
  stop_wanted BOOLEAN         NOT NULL DEFAULT FALSE,
  begun_at    DATETIME(6)     NOT NULL,
  UNIQUE KEY works_by_subject (kind, subject_id),
  UNIQUE KEY works_alone (alone),
  KEY works_by_lease (lease_until),
  KEY works_of_site (site_id, kind),
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;

UPDATE replacements SET state = 'restoring' WHERE state = 'backing';

-- What was under way before there were rows for it: taken up, or ended as interrupted, by whoever starts next.
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, alone, begun_at)
SELECT 'scan', site_id, id, account_id, CONCAT('scan:', site_id), begun_at FROM site_scans WHERE state = 'scanning' ORDER BY id DESC;
UPDATE site_scans SET state = 'stopped', ended_at = begun_at, problem = 'A newer scan replaced it.'
 WHERE state = 'scanning' AND id NOT IN (SELECT subject_id FROM works WHERE kind = 'scan');
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, begun_at)
SELECT 'copy', site_id, id, account_id, begun_at FROM verified_copies WHERE state = 'copying';
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, begun_at)
SELECT 'search', site_id, id, account_id, begun_at FROM package_searches WHERE state = 'searching';
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, begun_at)
SELECT 'versions', site_id, id, account_id, begun_at FROM replacements WHERE state = 'reading';
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, alone, begun_at)
SELECT 'replacement', site_id, id, account_id, CONCAT('replacement:', site_id), begun_at FROM replacements
 WHERE state IN ('building', 'swapping', 'looking', 'restoring') ORDER BY id;
