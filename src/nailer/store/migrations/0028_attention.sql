-- How many findings of a site stand, as cards count them: pages that list many sites ask for no more than the numbers.
CREATE TABLE IF NOT EXISTS site_finding_counts (
  site_id     BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  serious     INT UNSIGNED    NOT NULL,
  others      INT UNSIGNED    NOT NULL,
  certificate VARCHAR(40)     NOT NULL,
  FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);
