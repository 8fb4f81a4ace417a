-- name: of(account_id, site_id)
SELECT here, there, name FROM tray WHERE account_id = %(account_id)s AND site_id = %(site_id)s ORDER BY id;

-- name: add(account_id, site_id, place, here, there, name)!
INSERT IGNORE INTO tray (account_id, site_id, place, here, there, name)
VALUES (%(account_id)s, %(site_id)s, %(place)s, %(here)s, %(there)s, %(name)s);

-- name: remove(account_id, site_id, place, name)!
DELETE FROM tray
 WHERE account_id = %(account_id)s AND site_id = %(site_id)s AND place = %(place)s AND name = %(name)s;

-- name: clear(account_id, site_id)!
DELETE FROM tray WHERE account_id = %(account_id)s AND site_id = %(site_id)s;
