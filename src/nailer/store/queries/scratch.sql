-- name: add(site_id, account_id, path, why, now, ends_at)!
INSERT INTO scratch_areas (site_id, account_id, path, why, made_at, ends_at)
VALUES (%(site_id)s, %(account_id)s, %(path)s, %(why)s, %(now)s, %(ends_at)s);

-- name: of(site_id)
SELECT s.id, s.site_id, s.account_id, s.path, s.why, s.made_at, s.ends_at, s.problem, a.name AS account_name
  FROM scratch_areas s
  LEFT JOIN accounts a ON a.id = s.account_id
 WHERE s.site_id = %(site_id)s AND s.gone_at IS NULL
 ORDER BY s.id;

-- name: due(now)
SELECT s.id, s.site_id, s.account_id, s.path, s.why, s.made_at, s.ends_at, s.problem, a.name AS account_name
  FROM scratch_areas s
  LEFT JOIN accounts a ON a.id = s.account_id
 WHERE s.gone_at IS NULL AND s.ends_at <= %(now)s
 ORDER BY s.id;

-- name: end(id, now)!
UPDATE scratch_areas SET gone_at = %(now)s, problem = '' WHERE id = %(id)s;

-- name: longer(site_id, id, ends_at)!
UPDATE scratch_areas SET ends_at = %(ends_at)s, problem = '' WHERE site_id = %(site_id)s AND id = %(id)s;

-- name: trouble(id, problem, again_at)!
-- One that could not be removed is tried again later.
UPDATE scratch_areas SET problem = %(problem)s, ends_at = %(again_at)s WHERE id = %(id)s;
