-- name: begin(item_id, job_id, site_id, side, path, now)*
-- Written before the files are made. `path` is in hex.
INSERT IGNORE INTO parts (item_id, job_id, site_id, side, path, made_at)
SELECT r.item_id, r.job_id, r.site_id, r.side, UNHEX(r.path), r.made_at
  FROM JSON_TABLE(%(rows)s, '$[*]' COLUMNS (
         item_id BIGINT UNSIGNED PATH '$.item_id', job_id BIGINT UNSIGNED PATH '$.job_id',
         site_id BIGINT UNSIGNED PATH '$.site_id', side VARCHAR(5) PATH '$.side', path TEXT PATH '$.path',
         made_at DATETIME(6) PATH '$.now')) r;

-- name: gone(item_id)*
-- Taken their target's name, or removed.
DELETE p FROM parts p
  JOIN JSON_TABLE(%(rows)s, '$[*]' COLUMNS (item_id BIGINT UNSIGNED PATH '$.item_id')) r ON r.item_id = p.item_id;

-- name: prove(item_id, proofs)!
UPDATE parts SET proofs = %(proofs)s WHERE item_id = %(item_id)s;

-- name: carried(item_id, transferred_bytes)*
UPDATE parts p
  JOIN JSON_TABLE(%(rows)s, '$[*]' COLUMNS (
         item_id BIGINT UNSIGNED PATH '$.item_id', transferred_bytes BIGINT UNSIGNED PATH '$.transferred_bytes')) r
    ON r.item_id = p.item_id
   SET p.transferred_bytes = r.transferred_bytes;

-- name: proofs_of(item_id)$
SELECT proofs FROM parts WHERE item_id = %(item_id)s;

-- name: transferred_of_job(job_id)$
SELECT COALESCE(SUM(p.transferred_bytes), 0)
  FROM parts p
  JOIN items i ON i.id = p.item_id
 WHERE p.job_id = %(job_id)s AND i.state = 'waiting';

-- name: of_job(job_id)$
SELECT COUNT(*) FROM parts WHERE job_id = %(job_id)s;

-- name: unwanted(limit)
-- Nobody will go on with these: the job has ended or is forgotten, or their item has.
SELECT p.*, i.target
  FROM parts p
  LEFT JOIN jobs j ON j.id = p.job_id
  LEFT JOIN items i ON i.id = p.item_id
 WHERE j.id IS NULL OR i.id IS NULL OR j.state IN ('done', 'stopped')
    OR (i.state <> 'waiting' AND j.state IN ('needs-you', 'paused'))
 ORDER BY p.item_id
 LIMIT %(limit)s;

-- name: owned(site_id, side)
-- The temporary files of a side that somebody will still go on with or clear away.
SELECT path FROM parts WHERE site_id = %(site_id)s AND side = %(side)s;
