-- name: all()
SELECT t.*, p.name AS pair_name, s.id AS of_site, s.name AS site_name, s.colour, a.name AS account_name
  FROM timers t
  LEFT JOIN pairs p ON p.id = t.pair_id
  JOIN sites s ON s.id = COALESCE(p.site_id, t.site_id)
  JOIN accounts a ON a.id = t.account_id
 ORDER BY t.is_on DESC, t.next_at, t.id;

-- name: by_id(id)^
SELECT t.*, p.name AS pair_name, s.id AS of_site, s.name AS site_name, s.colour, a.name AS account_name
  FROM timers t
  LEFT JOIN pairs p ON p.id = t.pair_id
  JOIN sites s ON s.id = COALESCE(p.site_id, t.site_id)
  JOIN accounts a ON a.id = t.account_id
 WHERE t.id = %(id)s;

-- name: add(account_id, pair_id, site_id, to_side, source_folder, target_folder, names, name, direction, removals, compare, every, spec, zone, is_on, mail, missed, clashes, next_at)!
INSERT INTO timers (account_id, pair_id, site_id, to_side, source_folder, target_folder, names, name, direction, removals,
                    compare, every, spec, zone, is_on, mail, missed, clashes, next_at)
VALUES (%(account_id)s, %(pair_id)s, %(site_id)s, %(to_side)s, %(source_folder)s, %(target_folder)s, %(names)s, %(name)s,
        %(direction)s, %(removals)s, %(compare)s, %(every)s, %(spec)s, %(zone)s,
        %(is_on)s, %(mail)s, %(missed)s, %(clashes)s, %(next_at)s);

-- name: set(id, name, direction, removals, compare, every, spec, zone, mail, missed, clashes, next_at)!
UPDATE timers
   SET name = %(name)s, direction = %(direction)s, removals = %(removals)s, compare = %(compare)s, every = %(every)s,
       spec = %(spec)s, zone = %(zone)s, mail = %(mail)s, missed = %(missed)s, clashes = %(clashes)s,
       next_at = %(next_at)s
 WHERE id = %(id)s;

-- name: switch(id, is_on, next_at)!
UPDATE timers SET is_on = %(is_on)s, next_at = %(next_at)s WHERE id = %(id)s;

-- name: remove(id)!
DELETE FROM timers WHERE id = %(id)s;

-- name: due(now)$
-- A timer whose time has come and that nobody has claimed. Skips what another process is claiming.
SELECT id
  FROM timers
 WHERE is_on AND next_at <= %(now)s AND (claimed_until IS NULL OR claimed_until < %(now)s)
 ORDER BY next_at, id
 LIMIT 1
   FOR UPDATE SKIP LOCKED;

-- name: claim(id, until, next_at)!
UPDATE timers SET claimed_until = %(until)s, next_at = %(next_at)s WHERE id = %(id)s;

-- name: claim_now(id, now, until)!
-- For a run that a person asks for; nothing where one is being made.
UPDATE timers
   SET claimed_until = %(until)s
 WHERE id = %(id)s AND (claimed_until IS NULL OR claimed_until < %(now)s);

-- name: renew(id, until)!
UPDATE timers SET claimed_until = %(until)s WHERE id = %(id)s AND claimed_until IS NOT NULL;

-- name: release(id)!
UPDATE timers SET claimed_until = NULL WHERE id = %(id)s;

-- name: add_job(timer_id, job_id, state, told, files, bytes, now, ended_at)!
INSERT INTO timer_jobs (timer_id, job_id, state, told, files, bytes, started_at, ended_at)
VALUES (%(timer_id)s, %(job_id)s, %(state)s, %(told)s, %(files)s, %(bytes)s, %(now)s, %(ended_at)s);

-- name: jobs(timer_id, limit)
SELECT * FROM timer_jobs WHERE timer_id = %(timer_id)s ORDER BY id DESC LIMIT %(limit)s;

-- name: set_job_state(id, state, ended_at)!
UPDATE timer_jobs SET state = %(state)s, ended_at = %(ended_at)s WHERE id = %(id)s;

-- name: forget_jobs(timer_id, most)!
-- All but the newest: a timer may run every minute for years.
DELETE FROM timer_jobs
 WHERE timer_id = %(timer_id)s
   AND id <= (SELECT * FROM (SELECT COALESCE(MAX(id), 0) - %(most)s FROM timer_jobs WHERE timer_id = %(timer_id)s) newest);
