-- name: of_site(site_id, today)
SELECT side, path, until, why
  FROM keep_marks
 WHERE site_id = %(site_id)s AND (until IS NULL OR until >= %(today)s)
 ORDER BY id;

-- name: write(site_id, side, place, path, until, why, account_id, now)!
INSERT INTO keep_marks (site_id, side, place, path, until, why, account_id, made_at)
VALUES (%(site_id)s, %(side)s, %(place)s, %(path)s, %(until)s, %(why)s, %(account_id)s, %(now)s)
ON DUPLICATE KEY UPDATE until = VALUES(until), why = VALUES(why), account_id = VALUES(account_id), made_at = VALUES(made_at);

-- name: forget(site_id, side, place)!
DELETE FROM keep_marks WHERE site_id = %(site_id)s AND side = %(side)s AND place = %(place)s;

-- name: of_side(site_id, side)
SELECT id, path FROM keep_marks WHERE site_id = %(site_id)s AND side = %(side)s;

-- name: move(id, place, path)!
UPDATE keep_marks SET place = %(place)s, path = %(path)s WHERE id = %(id)s;
