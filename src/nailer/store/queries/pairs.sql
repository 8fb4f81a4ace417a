-- name: add(site_id, other_site_id, name, here, there, place, direction, removals, compare)!
INSERT INTO pairs (site_id, other_site_id, name, here, there, place, direction, removals, compare)
VALUES (%(site_id)s, %(other_site_id)s, %(name)s, %(here)s, %(there)s, %(place)s, %(direction)s, %(removals)s,
        %(compare)s)
ON DUPLICATE KEY UPDATE id = LAST_INSERT_ID(id);

-- name: by_id(id)^
SELECT p.id, p.site_id, p.other_site_id, p.name, p.here, p.there, p.direction, p.removals, p.compare, p.sends,
       p.send_after_s, p.sends_account, p.read_at, p.level_at, p.unsent, s.name AS site_name, o.name AS other_name
  FROM pairs p
  JOIN sites s ON s.id = p.site_id
  LEFT JOIN sites o ON o.id = p.other_site_id
 WHERE p.id = %(id)s;

-- name: of_site(site_id)
-- The pairs in which a site is there, the oldest first.
SELECT p.id, p.site_id, p.other_site_id, p.name, p.here, p.there, p.direction, p.removals, p.compare, p.sends,
       p.send_after_s, p.sends_account, p.read_at, p.level_at, p.unsent, s.name AS site_name, o.name AS other_name
  FROM pairs p
  JOIN sites s ON s.id = p.site_id
  LEFT JOIN sites o ON o.id = p.other_site_id
 WHERE p.site_id = %(site_id)s
 ORDER BY p.id;

-- name: all()
SELECT p.id, p.site_id, p.other_site_id, p.name, p.here, p.there, p.direction, p.removals, p.compare, p.sends,
       p.send_after_s, p.sends_account, p.read_at, p.level_at, p.unsent, s.name AS site_name, o.name AS other_name
  FROM pairs p
  JOIN sites s ON s.id = p.site_id
  LEFT JOIN sites o ON o.id = p.other_site_id
 ORDER BY s.name, p.id;

-- name: set_wish(id, direction, removals, compare)!
UPDATE pairs SET direction = %(direction)s, removals = %(removals)s, compare = %(compare)s WHERE id = %(id)s;

-- name: set_sending(id, sends, send_after_s, account_id)!
UPDATE pairs SET sends = %(sends)s, send_after_s = %(send_after_s)s, sends_account = %(account_id)s WHERE id = %(id)s;

-- name: set_read(id, read_at, folders)!
UPDATE pairs SET read_at = %(read_at)s, folders = %(folders)s WHERE id = %(id)s;

-- name: set_level(id, level_at)!
UPDATE pairs SET level_at = %(level_at)s WHERE id = %(id)s;

-- name: set_unsent(id, unsent)!
UPDATE pairs SET unsent = %(unsent)s WHERE id = %(id)s;

-- name: folders(id)^
SELECT folders, read_at FROM pairs WHERE id = %(id)s;

-- name: remove(id)!
DELETE FROM pairs WHERE id = %(id)s;

-- name: sieves(pair_id)
SELECT sieve_id FROM pair_sieves WHERE pair_id = %(pair_id)s;

-- name: pick_sieve(pair_id, sieve_id)!
INSERT IGNORE INTO pair_sieves (pair_id, sieve_id) VALUES (%(pair_id)s, %(sieve_id)s);

-- name: drop_sieves(pair_id)!
DELETE FROM pair_sieves WHERE pair_id = %(pair_id)s;
