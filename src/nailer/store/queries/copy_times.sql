-- name: add(site_id, account_id, path, at, zone, daily, weekly, monthly, next_at)!
INSERT INTO copy_times (site_id, account_id, path, at, zone, daily, weekly, monthly, next_at)
VALUES (%(site_id)s, %(account_id)s, %(path)s, %(at)s, %(zone)s, %(daily)s, %(weekly)s, %(monthly)s, %(next_at)s);

-- name: of(site_id)
SELECT id, site_id, account_id, path, at, zone, daily, weekly, monthly, next_at, words
  FROM copy_times WHERE site_id = %(site_id)s ORDER BY id;

-- name: drop(site_id, id)!
DELETE FROM copy_times WHERE site_id = %(site_id)s AND id = %(id)s;

-- name: due(now)
SELECT id, site_id, account_id, path, at, zone, daily, weekly, monthly, next_at, words
  FROM copy_times WHERE next_at <= %(now)s ORDER BY next_at;

-- name: put_off(id, was, next_at)!
-- Whoever changes the row first has the run.
UPDATE copy_times SET next_at = %(next_at)s WHERE id = %(id)s AND next_at = %(was)s;

-- name: said(id, words)!
UPDATE copy_times SET words = %(words)s WHERE id = %(id)s;
