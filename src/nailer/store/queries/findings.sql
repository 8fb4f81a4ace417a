-- name: of(site_id)
SELECT f.id, f.kind, f.data, f.first_at, f.last_at, f.gone_at, f.ignored_at, f.ignored, a.name AS ignored_by
  FROM site_findings f
  LEFT JOIN accounts a ON a.id = f.ignored_by
 WHERE f.site_id = %(site_id)s AND f.gone_at IS NULL
 ORDER BY f.id;

-- name: found(site_id, kind, hash, data, now)!
-- A finding that was gone begins anew.
INSERT INTO site_findings (site_id, kind, hash, data, first_at, last_at)
VALUES (%(site_id)s, %(kind)s, %(hash)s, %(data)s, %(now)s, %(now)s)
ON DUPLICATE KEY UPDATE
  data = VALUES(data),
  first_at = IF(gone_at IS NULL, first_at, VALUES(first_at)),
  last_at = VALUES(last_at),
  gone_at = NULL;

-- name: gone(site_id, kind, now)!
-- What this scan has looked for and not found.
UPDATE site_findings
   SET gone_at = %(now)s
 WHERE site_id = %(site_id)s AND kind = %(kind)s AND gone_at IS NULL AND last_at < %(now)s;

-- name: ignore(site_id, id, now, account_id, why)!
UPDATE site_findings
   SET ignored_at = %(now)s, ignored_by = %(account_id)s, ignored = %(why)s
 WHERE site_id = %(site_id)s AND id = %(id)s;

-- name: heed(site_id, id)!
UPDATE site_findings SET ignored_at = NULL, ignored_by = NULL, ignored = '' WHERE site_id = %(site_id)s AND id = %(id)s;

-- name: facts(site_id)
SELECT name, value, how, learned_at, was, was_at FROM site_facts WHERE site_id = %(site_id)s ORDER BY name;

-- name: learn(site_id, name, value, how, now)!
-- What contradicts an earlier fact takes its place and says so.
INSERT INTO site_facts (site_id, name, value, how, learned_at)
VALUES (%(site_id)s, %(name)s, %(value)s, %(how)s, %(now)s)
ON DUPLICATE KEY UPDATE
  was = IF(value <> VALUES(value), value, was),
  was_at = IF(value <> VALUES(value), learned_at, was_at),
  value = VALUES(value), how = VALUES(how), learned_at = VALUES(learned_at);
