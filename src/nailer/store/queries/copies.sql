-- name: begin(site_id, account_id, path, title, kind, time_id, now)!
INSERT INTO verified_copies (site_id, account_id, path, title, kind, time_id, state, begun_at)
VALUES (%(site_id)s, %(account_id)s, %(path)s, %(title)s, %(kind)s, %(time_id)s, 'copying', %(now)s);

-- name: hold(copy_id, hash)!
-- Written down as each content is kept, so that nothing lets it go before the copy is whole.
INSERT IGNORE INTO copied_contents (copy_id, hash) VALUES (%(copy_id)s, %(hash)s);

-- name: end(id, state, files, bytes, fetched, problem, manifest, name, version, now)!
UPDATE verified_copies
   SET state = %(state)s, files = %(files)s, bytes = %(bytes)s, fetched = %(fetched)s, problem = %(problem)s,
       manifest = %(manifest)s, name = %(name)s, version = %(version)s, ended_at = %(now)s
 WHERE id = %(id)s;

-- name: release(id)!
-- A copy that is not whole keeps nothing.
DELETE FROM copied_contents WHERE copy_id = %(id)s;

-- name: lock(id)$
SELECT state FROM verified_copies WHERE id = %(id)s FOR UPDATE;

-- name: count_kept(id)$
SELECT COUNT(*) FROM copied_contents c JOIN kept_contents k ON k.hash = c.hash WHERE c.copy_id = %(id)s;

-- name: fail_old(now, before)!
-- Taking in what is delivered is part of other work: nothing else ends it where its process is gone.
UPDATE verified_copies
   SET state = 'failed', problem = 'Nailer ended meanwhile.', ended_at = %(now)s
 WHERE state = 'copying' AND kind = 'delivered' AND begun_at < %(before)s;

-- name: release_failed()!
DELETE c FROM copied_contents c JOIN verified_copies p ON p.id = c.copy_id WHERE p.state = 'failed';

-- name: of(site_id)
SELECT p.id, p.site_id, p.path, p.title, p.state, p.files, p.bytes, p.fetched, p.problem, p.begun_at, p.ended_at,
       p.restore_tested_at, p.restore_test, p.kind, p.name, p.version, p.time_id, a.name AS account_name
  FROM verified_copies p
  LEFT JOIN accounts a ON a.id = p.account_id
 WHERE p.site_id = %(site_id)s AND p.kind = 'copy'
 ORDER BY p.id DESC
 LIMIT 300;

-- name: originals(site_id, path, version)
SELECT p.id, p.site_id, p.path, p.title, p.state, p.files, p.bytes, p.fetched, p.problem, p.begun_at, p.ended_at,
       p.restore_tested_at, p.restore_test, p.kind, p.name, p.version, p.time_id, a.name AS account_name
  FROM verified_copies p
  LEFT JOIN accounts a ON a.id = p.account_id
 WHERE p.site_id = %(site_id)s AND p.path = %(path)s AND p.version = %(version)s AND p.state = 'verified'
 ORDER BY p.kind = 'copy', IF(p.kind = 'copy', p.id, -CAST(p.id AS SIGNED));

-- name: get(site_id, id)^
SELECT p.id, p.site_id, p.path, p.title, p.state, p.files, p.bytes, p.fetched, p.problem, p.begun_at, p.ended_at,
       p.restore_tested_at, p.restore_test, p.kind, p.name, p.version, p.time_id, a.name AS account_name
  FROM verified_copies p
  LEFT JOIN accounts a ON a.id = p.account_id
 WHERE p.site_id = %(site_id)s AND p.id = %(id)s;

-- name: manifest(id)$
SELECT manifest FROM verified_copies WHERE id = %(id)s;

-- name: restore_tested(id, words, now)!
UPDATE verified_copies SET restore_tested_at = %(now)s, restore_test = %(words)s WHERE id = %(id)s;

-- name: drop(site_id, id)!
DELETE FROM verified_copies WHERE site_id = %(site_id)s AND id = %(id)s;

-- name: drop_unneeded(site_id, id)!
DELETE p FROM verified_copies p
 WHERE p.site_id = %(site_id)s AND p.id = %(id)s AND p.kind = 'delivered'
   AND NOT EXISTS (SELECT 1 FROM replacements r
                    WHERE r.state <> 'dropped' AND (r.new_copy_id = p.id OR r.base_copy_id = p.id));
