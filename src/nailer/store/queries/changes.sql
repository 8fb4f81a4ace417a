-- name: add(site_id, side, path, what, account_id, job_id, item_id, now, before_hash, before_size, before_time_ns, before_permissions, before_target, after_size, after_time_ns, after_permissions, after_hash, other_path, level_before)!
INSERT INTO changes (site_id, side, path, what, account_id, job_id, item_id, at, before_hash, before_size,
                     before_time_ns, before_permissions, before_target, after_size, after_time_ns, after_permissions, after_hash,
                     other_path, level_before)
VALUES (%(site_id)s, %(side)s, %(path)s, %(what)s, %(account_id)s, %(job_id)s, %(item_id)s, %(now)s, %(before_hash)s,
        %(before_size)s, %(before_time_ns)s, %(before_permissions)s, %(before_target)s, %(after_size)s, %(after_time_ns)s,
        %(after_permissions)s, %(after_hash)s, %(other_path)s, %(level_before)s);

-- name: confirm(item_id)*
UPDATE changes c
  JOIN JSON_TABLE(%(rows)s, '$[*]' COLUMNS (item_id BIGINT UNSIGNED PATH '$.item_id')) r ON r.item_id = c.item_id
   SET c.confirmed = TRUE
 WHERE NOT c.confirmed;

-- name: add_confirmed(site_id, side, path, what, account_id, now, before_hash, before_size, before_time_ns, before_permissions, before_target, after_size, after_time_ns, other_path)!
-- A change made at once, outside any job.
INSERT INTO changes (site_id, side, path, what, account_id, at, confirmed, before_hash, before_size, before_time_ns,
                     before_permissions, before_target, after_size, after_time_ns, other_path)
VALUES (%(site_id)s, %(side)s, %(path)s, %(what)s, %(account_id)s, %(now)s, TRUE, %(before_hash)s, %(before_size)s,
        %(before_time_ns)s, %(before_permissions)s, %(before_target)s, %(after_size)s, %(after_time_ns)s, %(other_path)s);

-- name: withdraw(item_id)!
-- A change that was announced and not made.
DELETE FROM changes WHERE item_id = %(item_id)s AND NOT confirmed;

-- name: before_of_item(item_id)$
SELECT before_hash FROM changes WHERE item_id = %(item_id)s AND NOT confirmed ORDER BY id DESC LIMIT 1;

-- name: unconfirmed_of_job(job_id)
-- What a killed runner announced and may or may not have made.
SELECT c.item_id, c.what, c.after_size, c.after_time_ns
  FROM changes c
 WHERE c.job_id = %(job_id)s AND NOT c.confirmed;

-- name: by_id(id)^
SELECT * FROM changes WHERE id = %(id)s;

-- name: removed_in(site_id, side, prefix, limit)
-- What was removed from one folder, newest first; `prefix` is the folder with its slash, escaped for LIKE.
SELECT c.*, a.name AS account_name
  FROM changes c
  LEFT JOIN accounts a ON a.id = c.account_id
 WHERE c.site_id = %(site_id)s AND c.side = %(side)s AND c.path LIKE %(prefix)s
   AND c.what IN ('removed', 'link-removed') AND c.confirmed AND c.taken_back_at IS NULL
 ORDER BY c.id DESC
 LIMIT %(limit)s;

-- name: latest(site_id, before, side, wanted, limit)
-- Newest first, before a number; of one side, and where the path, the person or the job holds a text. Empty: any.
SELECT c.*, a.name AS account_name, j.title AS job_title
  FROM changes c
  LEFT JOIN accounts a ON a.id = c.account_id
  LEFT JOIN jobs j ON j.id = c.job_id
 WHERE c.site_id = %(site_id)s AND c.confirmed AND c.id < %(before)s AND (%(side)s = '' OR c.side = %(side)s)
   AND (%(wanted)s = '%%' OR CONVERT(c.path USING utf8mb4) LIKE %(wanted)s OR a.name LIKE %(wanted)s OR j.title LIKE %(wanted)s)
 ORDER BY c.id DESC
 LIMIT %(limit)s;

-- name: since(site_id, side, id, limit)
-- What was changed on a side since a change (itself too) and not taken back, newest first.
SELECT * FROM changes
 WHERE site_id = %(site_id)s AND side = %(side)s AND id >= %(id)s AND confirmed AND taken_back_at IS NULL
 ORDER BY id DESC
 LIMIT %(limit)s;

-- name: of_job(job_id)
-- Newest first: taking back goes through them in this order.
SELECT * FROM changes WHERE job_id = %(job_id)s AND confirmed AND taken_back_at IS NULL ORDER BY id DESC;

-- name: taken_back(id, now)!
UPDATE changes SET taken_back_at = %(now)s WHERE id = %(id)s;

-- name: keep(hash, size, stored_size, now)!
INSERT INTO kept_contents (hash, size, stored_size, kept_at) VALUES (%(hash)s, %(size)s, %(stored_size)s, %(now)s)
ON DUPLICATE KEY UPDATE kept_at = VALUES(kept_at);

-- name: is_kept(hash)$
SELECT COUNT(*) FROM kept_contents WHERE hash = %(hash)s;

-- name: kept_room()^
-- Beside what verified copies hold.
SELECT COUNT(*) AS contents, COALESCE(SUM(k.stored_size), 0) AS stored_size
  FROM kept_contents k
 WHERE NOT EXISTS (SELECT 1 FROM copied_contents c WHERE c.hash = k.hash);

-- name: knows_content(hash)
-- Where else a content is known: what both sides of a name held when they were last level, by site.
SELECT b.site_id, COUNT(*) AS names FROM baselines b WHERE b.content_hash = %(hash)s GROUP BY b.site_id;

-- name: keeping()^
SELECT days, bytes FROM keeping WHERE id = 1;

-- name: write_keeping(days, bytes)!
INSERT INTO keeping (id, days, bytes) VALUES (1, %(days)s, %(bytes)s)
ON DUPLICATE KEY UPDATE days = VALUES(days), bytes = VALUES(bytes);

-- name: oldest_kept(limit)
-- What a verified copy holds is never let go.
SELECT k.hash, k.stored_size, k.kept_at
  FROM kept_contents k
 WHERE NOT EXISTS (SELECT 1 FROM copied_contents c WHERE c.hash = k.hash)
 ORDER BY k.kept_at, k.hash
 LIMIT %(limit)s;

-- name: forget_kept(hash)!
-- A verified copy may hold it by now.
DELETE k FROM kept_contents k
 WHERE k.hash = %(hash)s AND NOT EXISTS (SELECT 1 FROM copied_contents c WHERE c.hash = k.hash);

-- name: without_copy(hash)!
-- Changes whose old content is not kept any more: they can be read, not taken back.
UPDATE changes SET before_hash = NULL WHERE before_hash = %(hash)s;

-- name: lately_in(site_id, side, prefix, since, limit)
-- What was changed directly in one folder since a moment and can perhaps be taken back, newest first.
SELECT c.*, a.name AS account_name
  FROM changes c
  LEFT JOIN accounts a ON a.id = c.account_id
 WHERE c.site_id = %(site_id)s AND c.side = %(side)s AND c.confirmed AND c.taken_back_at IS NULL AND c.at > %(since)s
   AND (c.path LIKE %(prefix)s OR c.other_path LIKE %(prefix)s)
 ORDER BY c.id DESC
 LIMIT %(limit)s;

-- name: moves(site_id, side, limit)
-- What was renamed on a side, and what was given its old name back; the latest.
SELECT at, path, other_path, taken_back_at
  FROM changes
 WHERE site_id = %(site_id)s AND side = %(side)s AND what = 'renamed' AND confirmed AND other_path IS NOT NULL
 ORDER BY id DESC
 LIMIT %(limit)s;

-- name: of_name(site_id, side, path, begun, ended, limit)
-- What happened to one name within a time, newest first.
SELECT c.*, a.name AS account_name, j.kind AS job_kind
  FROM changes c
  LEFT JOIN accounts a ON a.id = c.account_id
  LEFT JOIN jobs j ON j.id = c.job_id
 WHERE c.site_id = %(site_id)s AND c.side = %(side)s AND c.path = %(path)s AND c.confirmed
   AND (%(begun)s IS NULL OR c.at > %(begun)s) AND (%(ended)s IS NULL OR c.at <= %(ended)s)
 ORDER BY c.id DESC
 LIMIT %(limit)s;
