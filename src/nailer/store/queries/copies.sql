-- name: begin(site_id, account_id, path, title, now)!
INSERT INTO proved_copies (site_id, account_id, path, title, state, begun_at)
VALUES (%(site_id)s, %(account_id)s, %(path)s, %(title)s, 'copying', %(now)s);

-- name: hold(copy_id, hash)!
-- Written down as each content is kept, so that nothing lets it go before the copy is whole.
INSERT IGNORE INTO copied_contents (copy_id, hash) VALUES (%(copy_id)s, %(hash)s);

-- name: end(id, state, files, bytes, fetched, problem, manifest, now)!
UPDATE proved_copies
   SET state = %(state)s, files = %(files)s, bytes = %(bytes)s, fetched = %(fetched)s, problem = %(problem)s,
       manifest = %(manifest)s, ended_at = %(now)s
 WHERE id = %(id)s;

-- name: release(id)!
-- A copy that is not whole keeps nothing.
DELETE FROM copied_contents WHERE copy_id = %(id)s;

-- name: cut(now)!
UPDATE proved_copies
   SET state = 'failed', problem = 'Nailer ended meanwhile.', ended_at = %(now)s
 WHERE state = 'copying';

-- name: release_failed()!
DELETE c FROM copied_contents c JOIN proved_copies p ON p.id = c.copy_id WHERE p.state = 'failed';

-- name: of(site_id)
SELECT p.id, p.site_id, p.path, p.title, p.state, p.files, p.bytes, p.fetched, p.problem, p.begun_at, p.ended_at,
       p.rehearsed_at, p.rehearsal, a.name AS account_name
  FROM proved_copies p
  LEFT JOIN accounts a ON a.id = p.account_id
 WHERE p.site_id = %(site_id)s
 ORDER BY p.id DESC
 LIMIT 100;

-- name: manifest(id)$
SELECT manifest FROM proved_copies WHERE id = %(id)s;

-- name: rehearsed(id, words, now)!
UPDATE proved_copies SET rehearsed_at = %(now)s, rehearsal = %(words)s WHERE id = %(id)s;

-- name: drop(site_id, id)!
DELETE FROM proved_copies WHERE site_id = %(site_id)s AND id = %(id)s;
