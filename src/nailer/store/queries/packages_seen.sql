-- name: set(site_id, packages, now)!
REPLACE INTO packages_seen (site_id, packages, seen_at) VALUES (%(site_id)s, %(packages)s, %(now)s);

-- name: of(site_id)^
SELECT packages, seen_at FROM packages_seen WHERE site_id = %(site_id)s;
