-- name: of_many(site_id, pair_keys)
SELECT pair_key, name, kind, here_size, here_time_ns, here_precision_ns, there_size, there_time_ns, there_precision_ns,
       content_hash
  FROM baselines
 WHERE site_id = %(site_id)s AND pair_key IN %(pair_keys)s;

-- name: write(site_id, pair_key, name, kind, here_size, here_time_ns, here_precision_ns, there_size, there_time_ns, there_precision_ns, content_hash, now)!
INSERT INTO baselines (site_id, pair_key, name, kind, here_size, here_time_ns, here_precision_ns, there_size,
                       there_time_ns, there_precision_ns, content_hash, level_at)
VALUES (%(site_id)s, %(pair_key)s, %(name)s, %(kind)s, %(here_size)s, %(here_time_ns)s, %(here_precision_ns)s, %(there_size)s,
        %(there_time_ns)s, %(there_precision_ns)s, %(content_hash)s, %(now)s)
ON DUPLICATE KEY UPDATE kind = VALUES(kind), here_size = VALUES(here_size), here_time_ns = VALUES(here_time_ns),
  here_precision_ns = VALUES(here_precision_ns), there_size = VALUES(there_size), there_time_ns = VALUES(there_time_ns),
  there_precision_ns = VALUES(there_precision_ns), content_hash = VALUES(content_hash), level_at = VALUES(level_at);

-- name: of_names(site_id, pair_keys, names)
-- Some names of some folder pairs; the caller picks the right combinations.
SELECT pair_key, name, kind, here_size, here_time_ns, here_precision_ns, there_size, there_time_ns, there_precision_ns,
       content_hash
  FROM baselines
 WHERE site_id = %(site_id)s AND pair_key IN %(pair_keys)s AND name IN %(names)s;

-- name: forget(site_id, pair_key, name)!
DELETE FROM baselines WHERE site_id = %(site_id)s AND pair_key = %(pair_key)s AND name = %(name)s;

-- name: move(site_id, old_key, old_name, new_key, new_name)!
-- A name that was renamed on both sides takes its baseline along.
UPDATE IGNORE baselines SET pair_key = %(new_key)s, name = %(new_name)s
 WHERE site_id = %(site_id)s AND pair_key = %(old_key)s AND name = %(old_name)s;

-- name: folders_in(site_id, pair_key)
-- The folders that were level in a pair of folders.
SELECT name FROM baselines WHERE site_id = %(site_id)s AND pair_key = %(pair_key)s AND kind = 'folder';

-- name: forget_all(site_id, pair_key)!
DELETE FROM baselines WHERE site_id = %(site_id)s AND pair_key = %(pair_key)s;
