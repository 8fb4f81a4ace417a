-- name: all()
SELECT s.id, s.position, s.name, s.rule, s.always, s.stays, s.unseen, s.everywhere, s.off_since,
       (SELECT COUNT(*) FROM pair_sieves p WHERE p.sieve_id = s.id) AS pairs
  FROM sieves s
 ORDER BY s.position, s.id;

-- name: add(name, rule, always, stays, unseen, everywhere)!
INSERT INTO sieves (position, name, rule, always, stays, unseen, everywhere)
SELECT COALESCE(MAX(position), 0) + 1, %(name)s, %(rule)s, %(always)s, %(stays)s, %(unseen)s, %(everywhere)s FROM sieves;

-- name: set(id, name, rule, always, stays, unseen, everywhere)!
UPDATE sieves
   SET name = %(name)s, rule = %(rule)s, always = %(always)s, stays = %(stays)s, unseen = %(unseen)s,
       everywhere = %(everywhere)s
 WHERE id = %(id)s;

-- name: switch(id, off_since)!
UPDATE sieves SET off_since = %(off_since)s WHERE id = %(id)s;

-- name: place(id, position)!
UPDATE sieves SET position = %(position)s WHERE id = %(id)s;

-- name: remove(id)!
DELETE FROM sieves WHERE id = %(id)s;

-- name: of_pair(pair_id)
-- What holds for a pair, in order; those that are off too.
SELECT s.id, s.position, s.name, s.rule, s.always, s.stays, s.unseen, s.everywhere, s.off_since, 0 AS pairs
  FROM sieves s
 WHERE s.everywhere OR s.id IN (SELECT sieve_id FROM pair_sieves WHERE pair_id = %(pair_id)s)
 ORDER BY s.position, s.id;
