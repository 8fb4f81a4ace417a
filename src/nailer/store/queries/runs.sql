-- name: add(pair_id, account_id, timer_id, direction, removals, compare, state, flow, told, not_read, now, ended_at)!
INSERT INTO sync_runs (pair_id, account_id, timer_id, direction, removals, compare, state, flow, told, not_read,
                       started_at, ended_at)
VALUES (%(pair_id)s, %(account_id)s, %(timer_id)s, %(direction)s, %(removals)s, %(compare)s, %(state)s, %(flow)s,
        %(told)s, %(not_read)s, %(now)s, %(ended_at)s);

-- name: set_jobs(id, there_job, here_job)!
UPDATE sync_runs SET there_job = %(there_job)s, here_job = %(here_job)s WHERE id = %(id)s;

-- name: by_id(id)^
SELECT r.*, a.name AS account_name, t.name AS timer_name
  FROM sync_runs r
  JOIN accounts a ON a.id = r.account_id
  LEFT JOIN timers t ON t.id = r.timer_id
 WHERE r.id = %(id)s;

-- name: of_pair(pair_id, limit)
-- Newest first.
SELECT r.*, a.name AS account_name, t.name AS timer_name
  FROM sync_runs r
  JOIN accounts a ON a.id = r.account_id
  LEFT JOIN timers t ON t.id = r.timer_id
 WHERE r.pair_id = %(pair_id)s
 ORDER BY r.id DESC
 LIMIT %(limit)s;

-- name: of_timer(timer_id, limit)
-- Newest first.
SELECT r.*, a.name AS account_name, t.name AS timer_name
  FROM sync_runs r
  JOIN accounts a ON a.id = r.account_id
  LEFT JOIN timers t ON t.id = r.timer_id
 WHERE r.timer_id = %(timer_id)s
 ORDER BY r.id DESC
 LIMIT %(limit)s;

-- name: running()
SELECT r.id, r.pair_id, r.account_id, r.timer_id, r.direction, r.removals, r.compare, r.state, r.there_job, r.here_job,
       r.flow, r.told, r.not_read, r.started_at, r.ended_at, a.name AS account_name, NULL AS timer_name
  FROM sync_runs r
  JOIN accounts a ON a.id = r.account_id
 WHERE r.state = 'running';

-- name: running_of_pair(pair_id)$
SELECT COUNT(*) FROM sync_runs WHERE pair_id = %(pair_id)s AND state = 'running';

-- name: lock_pair(pair_id)^
SELECT id FROM pairs WHERE id = %(pair_id)s FOR UPDATE;

-- name: set_state(id, state, ended_at)!
UPDATE sync_runs SET state = %(state)s, ended_at = %(ended_at)s WHERE id = %(id)s;
