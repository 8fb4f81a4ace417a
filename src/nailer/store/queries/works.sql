-- name: add(kind, site_id, subject_id, account_id, alone, owner, until, now)!
-- Nothing is added where the same work, or another that must be alone, is under way.
INSERT IGNORE INTO works (kind, site_id, subject_id, account_id, alone, owner, lease_until, begun_at)
VALUES (%(kind)s, %(site_id)s, %(subject_id)s, %(account_id)s, %(alone)s, %(owner)s, %(until)s, %(now)s);

-- name: get(kind, subject_id)^
SELECT id, kind, site_id, subject_id, account_id, claims, owner, stop_wanted FROM works
 WHERE kind = %(kind)s AND subject_id = %(subject_id)s;

-- name: of_site(kind, site_id)
SELECT id, kind, site_id, subject_id, account_id, claims, owner, stop_wanted FROM works
 WHERE site_id = %(site_id)s AND kind = %(kind)s;

-- name: owned(owner)
SELECT id, kind, site_id, subject_id, account_id, claims, owner, stop_wanted FROM works WHERE owner = %(owner)s;

-- name: free(kinds, now)
-- What nobody holds; what another process claims right now is passed over.
SELECT id, kind, site_id, subject_id, account_id, claims, owner, stop_wanted FROM works
 WHERE (lease_until IS NULL OR lease_until < %(now)s) AND kind IN %(kinds)s
 ORDER BY id
 LIMIT 50
   FOR UPDATE SKIP LOCKED;

-- name: claim(id, owner, until)!
UPDATE works SET owner = %(owner)s, lease_until = %(until)s, claims = claims + 1 WHERE id = %(id)s;

-- name: renew(owner, until)!
UPDATE works SET lease_until = %(until)s WHERE owner = %(owner)s;

-- name: leases()
SELECT id, owner FROM works WHERE owner IS NOT NULL;

-- name: release(id, owner)!
UPDATE works SET owner = NULL, lease_until = NULL WHERE id = %(id)s AND owner = %(owner)s;

-- name: want_stop(id)!
UPDATE works SET stop_wanted = TRUE WHERE id = %(id)s;

-- name: end(id, owner)!
DELETE FROM works WHERE id = %(id)s AND owner = %(owner)s;
