-- name: begin(site_id, account_id, is_account, asks_others, now)!
INSERT INTO site_scans (site_id, account_id, is_account, asks_others, state, begun_at, problem)
VALUES (%(site_id)s, %(account_id)s, %(is_account)s, %(asks_others)s, 'scanning', %(now)s, '');

-- name: end(id, state, now, problem, trees, same_as, summary)!
-- Trees that are those of an earlier scan are not written again.
UPDATE site_scans r
  LEFT JOIN site_scans s ON s.id = %(same_as)s
   SET r.state = %(state)s, r.ended_at = %(now)s, r.problem = %(problem)s, r.trees = COALESCE(s.trees, %(trees)s),
       r.summary = %(summary)s
 WHERE r.id = %(id)s;

-- name: lock(id)$
SELECT state FROM site_scans WHERE id = %(id)s FOR UPDATE;

-- name: get(id)^
SELECT id, site_id, account_id, is_account, asks_others, state, begun_at, ended_at, problem, summary
  FROM site_scans WHERE id = %(id)s;

-- name: last(site_id)
-- The last scans that ended, newest first.
SELECT id, site_id, account_id, is_account, asks_others, state, begun_at, ended_at, problem, summary
  FROM site_scans WHERE site_id = %(site_id)s AND state <> 'scanning' ORDER BY id DESC LIMIT 10;

-- name: trees(id)$
SELECT trees FROM site_scans WHERE id = %(id)s;

-- name: forget_old(site_id, keep)!
-- Trees of scans that nobody compares with any more.
DELETE FROM site_scans WHERE site_id = %(site_id)s AND state <> 'scanning' AND id < %(keep)s;

-- name: files(site_id)
SELECT path, size, at_ns, precision_ns, read_at, digest, width, height, has_places, links
  FROM read_files WHERE site_id = %(site_id)s;

-- name: digests(site_id)
SELECT path, digest FROM read_files WHERE site_id = %(site_id)s AND digest IS NOT NULL;

-- name: put(site_id, hash, path, size, at_ns, precision_ns, read_at, digest, width, height, has_places, links)!
REPLACE INTO read_files (site_id, hash, path, size, at_ns, precision_ns, read_at, digest, width, height, has_places, links)
VALUES (%(site_id)s, %(hash)s, %(path)s, %(size)s, %(at_ns)s, %(precision_ns)s, %(read_at)s, %(digest)s, %(width)s,
        %(height)s, %(has_places)s, %(links)s);

-- name: drop_file(site_id, hash)!
DELETE FROM read_files WHERE site_id = %(site_id)s AND hash = %(hash)s;

-- name: time_of(site_id)^
SELECT site_id, account_id, at, zone, next_at FROM scan_times WHERE site_id = %(site_id)s;

-- name: set_time(site_id, account_id, at, zone, next_at)!
REPLACE INTO scan_times (site_id, account_id, at, zone, next_at)
VALUES (%(site_id)s, %(account_id)s, %(at)s, %(zone)s, %(next_at)s);

-- name: drop_time(site_id)!
DELETE FROM scan_times WHERE site_id = %(site_id)s;

-- name: due(now)
SELECT site_id, account_id, at, zone, next_at FROM scan_times WHERE next_at <= %(now)s ORDER BY next_at;

-- name: put_off(site_id, was, next_at)!
-- Whoever changes the row first has the run.
UPDATE scan_times SET next_at = %(next_at)s WHERE site_id = %(site_id)s AND next_at = %(was)s;
