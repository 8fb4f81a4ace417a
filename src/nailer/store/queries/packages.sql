-- name: add_aside(site_id, account_id, search_id, path, aside, title, why, now)!
INSERT INTO set_asides (site_id, account_id, search_id, path, aside, title, why, at)
VALUES (%(site_id)s, %(account_id)s, %(search_id)s, %(path)s, %(aside)s, %(title)s, %(why)s, %(now)s);

-- name: back(id, now)!
UPDATE set_asides SET back_at = %(now)s WHERE id = %(id)s;

-- name: open(site_id)
SELECT s.id, s.site_id, s.account_id, s.search_id, s.path, s.aside, s.title, s.why, s.at, a.name AS account_name
  FROM set_asides s
  LEFT JOIN accounts a ON a.id = s.account_id
 WHERE s.site_id = %(site_id)s AND s.back_at IS NULL
 ORDER BY s.id;

-- name: sites()
SELECT DISTINCT site_id FROM set_asides WHERE back_at IS NULL;

-- name: left_by_searches()
-- Sites on which a search has left something aside, and none is under way.
SELECT DISTINCT site_id FROM set_asides s
 WHERE back_at IS NULL AND search_id IS NOT NULL
   AND NOT EXISTS (SELECT 1 FROM works w WHERE w.site_id = s.site_id AND w.kind = 'search');

-- name: count_left(site_id)$
SELECT COUNT(*) FROM set_asides WHERE site_id = %(site_id)s AND back_at IS NULL AND search_id IS NOT NULL;

-- name: begin(site_id, account_id, wish, packages, now)!
INSERT INTO package_searches (site_id, account_id, wish, packages, answers, state, begun_at)
VALUES (%(site_id)s, %(account_id)s, %(wish)s, %(packages)s, '[]', 'searching', %(now)s);

-- name: answered(id, answers)!
UPDATE package_searches SET answers = %(answers)s WHERE id = %(id)s;

-- name: end(id, state, words, now)!
UPDATE package_searches SET state = %(state)s, words = %(words)s, ended_at = %(now)s WHERE id = %(id)s;

-- name: go_on(id)!
UPDATE package_searches SET state = 'searching', words = '', ended_at = NULL WHERE id = %(id)s;

-- name: last(site_id)^
SELECT id, site_id, account_id, wish, packages, answers, state, words, begun_at, ended_at
  FROM package_searches WHERE site_id = %(site_id)s ORDER BY id DESC LIMIT 1;

-- name: lock(id)$
SELECT state FROM package_searches WHERE id = %(id)s FOR UPDATE;

-- name: get(id)^
SELECT id, site_id, account_id, wish, packages, answers, state, words, begun_at, ended_at
  FROM package_searches WHERE id = %(id)s;
