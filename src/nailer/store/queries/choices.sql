-- name: of(account_id, pair_id, direction)
SELECT below, ends, doing, merged
  FROM sync_choices
 WHERE account_id = %(account_id)s AND pair_id = %(pair_id)s AND direction = %(direction)s;

-- name: write(account_id, pair_id, direction, place, below, ends, doing, merged)!
INSERT INTO sync_choices (account_id, pair_id, direction, place, below, ends, doing, merged)
VALUES (%(account_id)s, %(pair_id)s, %(direction)s, %(place)s, %(below)s, %(ends)s, %(doing)s, %(merged)s)
ON DUPLICATE KEY UPDATE ends = VALUES(ends), doing = VALUES(doing), merged = VALUES(merged);

-- name: forget(account_id, pair_id, direction, places)!
DELETE FROM sync_choices
 WHERE account_id = %(account_id)s AND pair_id = %(pair_id)s AND direction = %(direction)s AND place IN %(places)s;

-- name: forget_all(account_id, pair_id)!
DELETE FROM sync_choices WHERE account_id = %(account_id)s AND pair_id = %(pair_id)s;
