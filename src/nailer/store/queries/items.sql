-- name: add(job_id, position, action, verdict, reason, source, target, kind, size, time_ns, precision_ns, permissions, link_target, seen_kind, seen_size, seen_time_ns, seen_precision_ns, seen_permissions, kept_hash, undoes, state)!
INSERT INTO items (job_id, position, action, verdict, reason, source, target, kind, size, time_ns, precision_ns, permissions,
                   link_target, seen_kind, seen_size, seen_time_ns, seen_precision_ns, seen_permissions, kept_hash, undoes,
                   state)
VALUES (%(job_id)s, %(position)s, %(action)s, %(verdict)s, %(reason)s, %(source)s, %(target)s, %(kind)s, %(size)s,
        %(time_ns)s, %(precision_ns)s, %(permissions)s, %(link_target)s, %(seen_kind)s, %(seen_size)s, %(seen_time_ns)s,
        %(seen_precision_ns)s, %(seen_permissions)s, %(kept_hash)s, %(undoes)s, %(state)s);

-- name: by_id(job_id, id)^
SELECT * FROM items WHERE job_id = %(job_id)s AND id = %(id)s;

-- name: of_job(job_id, after, limit)
-- In order, from the position behind `after`.
SELECT * FROM items WHERE job_id = %(job_id)s AND position > %(after)s ORDER BY position LIMIT %(limit)s;

-- name: waiting(job_id, after, limit)
SELECT *
  FROM items
 WHERE job_id = %(job_id)s AND state = 'waiting' AND position > %(after)s
 ORDER BY position
 LIMIT %(limit)s;

-- name: failed(job_id, limit)
SELECT * FROM items WHERE job_id = %(job_id)s AND state = 'failed' ORDER BY position LIMIT %(limit)s;

-- name: failures(job_id)
-- Failed items by cause, the most frequent first.
SELECT error_kind, error_text, server_words, COUNT(*) AS items, SUM(size) AS size, MIN(target) AS example
  FROM items
 WHERE job_id = %(job_id)s AND state = 'failed'
 GROUP BY error_kind
 ORDER BY items DESC;

-- name: shown(job_id, state, after, limit)
-- For pages: items with this state ('' for all), in order.
SELECT *
  FROM items
 WHERE job_id = %(job_id)s AND position > %(after)s AND (%(state)s = '' OR state = %(state)s)
 ORDER BY position
 LIMIT %(limit)s;

-- name: set_plan(id, verdict, reason, target, state)!
UPDATE items SET verdict = %(verdict)s, reason = %(reason)s, target = %(target)s, state = %(state)s,
       seen_kind = IF(%(verdict)s = 'new', NULL, seen_kind)
 WHERE id = %(id)s;

-- name: end(id, state, reason, error_kind, error_text, server_words, content_hash, attempts, now)*
-- Many items that have ended, in one statement.
UPDATE items i
  JOIN JSON_TABLE(%(rows)s, '$[*]' COLUMNS (
         id BIGINT UNSIGNED PATH '$.id', state VARCHAR(10) PATH '$.state', reason VARCHAR(255) PATH '$.reason',
         error_kind VARCHAR(40) PATH '$.error_kind', error_text TEXT PATH '$.error_text',
         server_words TEXT PATH '$.server_words', content_hash VARCHAR(64) PATH '$.content_hash',
         attempts INT PATH '$.attempts', ended_at DATETIME(6) PATH '$.now')) r ON r.id = i.id
   SET i.state = r.state, i.attempts = r.attempts, i.reason = r.reason, i.error_kind = r.error_kind,
       i.error_text = r.error_text, i.server_words = r.server_words, i.content_hash = UNHEX(r.content_hash),
       i.ended_at = r.ended_at;

-- name: again(job_id)!
UPDATE items
   SET state = 'waiting', attempts = 0, error_kind = NULL, error_text = NULL, server_words = NULL, ended_at = NULL
 WHERE job_id = %(job_id)s AND state = 'failed';

-- name: unfinished(job_id)^
SELECT COALESCE(SUM(state = 'failed'), 0) AS failed, COALESCE(SUM(state = 'waiting'), 0) AS waiting
  FROM items
 WHERE job_id = %(job_id)s;

-- name: leave_out(job_id, now)!
-- What failed or waits is left out: a person decided so.
UPDATE items SET state = 'left', ended_at = %(now)s WHERE job_id = %(job_id)s AND state IN ('failed', 'waiting');

-- name: leave_out_below(job_id, target, below)!
-- One name of a plan, and what lies below it (`below` is escaped for LIKE).
UPDATE items SET state = 'left', verdict = 'left', reason = 'left out by you'
 WHERE job_id = %(job_id)s AND state = 'waiting' AND (target = %(target)s OR target LIKE %(below)s);
