-- name: of(host, account)
-- What holds for the whole host, and for one account there.
SELECT f.name, f.value, f.how, f.site_id, s.name AS site_name, f.learned_at, f.was, f.was_at
  FROM host_facts f
  LEFT JOIN sites s ON s.id = f.site_id
 WHERE f.host = %(host)s AND f.account IN ('', %(account)s)
 ORDER BY f.name;

-- name: learn(host, account, name, value, how, site_id, now)!
-- What contradicts an earlier fact takes its place and says so.
INSERT INTO host_facts (host, account, name, value, how, site_id, learned_at)
VALUES (%(host)s, %(account)s, %(name)s, %(value)s, %(how)s, %(site_id)s, %(now)s)
ON DUPLICATE KEY UPDATE
  was = IF(value <> VALUES(value), value, was),
  was_at = IF(value <> VALUES(value), learned_at, was_at),
  value = VALUES(value), how = VALUES(how), site_id = VALUES(site_id), learned_at = VALUES(learned_at);
