-- name: add(account_id, person, program, address, kind, site_id, site, said, now)!
INSERT INTO log_entries (at, account_id, person, program, address, kind, site_id, site, said)
VALUES (%(now)s, %(account_id)s, %(person)s, %(program)s, %(address)s, %(kind)s, %(site_id)s, %(site)s, %(said)s);

-- name: latest(before, wanted, limit)
SELECT id, at, account_id, person, program, address, kind, site_id, site, said
  FROM log_entries
 WHERE id < %(before)s
   AND (person LIKE %(wanted)s OR site LIKE %(wanted)s OR said LIKE %(wanted)s OR address LIKE %(wanted)s
        OR kind LIKE %(wanted)s OR program LIKE %(wanted)s)
 ORDER BY id DESC
 LIMIT %(limit)s;

-- name: forget(before)!
DELETE FROM log_entries WHERE at < %(before)s;
