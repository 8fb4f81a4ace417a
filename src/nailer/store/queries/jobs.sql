-- name: add(account_id, site_id, kind, title, to_side, source_folder, target_folder, state, planned_files, planned_bytes, left_files, left_bytes, takes_back, room_bytes, one_by_one, advice, source_site_id, pair_id, towards, run_id, after_job, now)!
INSERT INTO jobs (account_id, site_id, kind, title, to_side, source_folder, target_folder, state, planned_files,
                  planned_bytes, left_files, left_bytes, takes_back, room_bytes, one_by_one, advice, source_site_id,
                  pair_id, towards, run_id, after_job, created_at)
VALUES (%(account_id)s, %(site_id)s, %(kind)s, %(title)s, %(to_side)s, %(source_folder)s, %(target_folder)s, %(state)s,
        %(planned_files)s, %(planned_bytes)s, %(left_files)s, %(left_bytes)s, %(takes_back)s,
        %(room_bytes)s, %(one_by_one)s, %(advice)s, %(source_site_id)s, %(pair_id)s, %(towards)s, %(run_id)s, %(after_job)s,
        %(now)s);

-- name: by_id(id)^
SELECT j.*, s.name AS site_name, s.colour, s.file_permissions, s.folder_permissions, s.in_place, s.reads_back, a.name AS account_name,
       p.site_id AS pair_site_id, p.other_site_id AS pair_other_id
  FROM jobs j
  JOIN sites s ON s.id = j.site_id
  JOIN accounts a ON a.id = j.account_id
  LEFT JOIN pairs p ON p.id = j.pair_id
 WHERE j.id = %(id)s;

-- name: lock(id)^
SELECT * FROM jobs WHERE id = %(id)s FOR UPDATE;

-- name: active(everybody, account, sites, whole)
-- Everything that waits or runs, newest first.
SELECT j.*, s.name AS site_name, s.colour, s.file_permissions, s.folder_permissions, s.in_place, s.reads_back, a.name AS account_name,
       p.site_id AS pair_site_id, p.other_site_id AS pair_other_id
  FROM jobs j
  JOIN sites s ON s.id = j.site_id
  JOIN accounts a ON a.id = j.account_id
  LEFT JOIN pairs p ON p.id = j.pair_id
 WHERE j.state IN ('waiting', 'running', 'paused')
   AND (%(everybody)s OR j.site_id IN %(whole)s OR (j.account_id = %(account)s AND j.site_id IN %(sites)s))
 ORDER BY j.id DESC;

-- name: needing_you(everybody, account, sites, whole)
SELECT j.*, s.name AS site_name, s.colour, s.file_permissions, s.folder_permissions, s.in_place, s.reads_back, a.name AS account_name,
       p.site_id AS pair_site_id, p.other_site_id AS pair_other_id
  FROM jobs j
  JOIN sites s ON s.id = j.site_id
  JOIN accounts a ON a.id = j.account_id
  LEFT JOIN pairs p ON p.id = j.pair_id
 WHERE j.state = 'needs-you'
   AND (%(everybody)s OR j.site_id IN %(whole)s OR (j.account_id = %(account)s AND j.site_id IN %(sites)s))
 ORDER BY j.id DESC
 LIMIT 200;

-- name: ended(before, wanted, limit, everybody, account, sites, whole)
-- Done and stopped jobs, newest first, those with an id below `before`, with a text (escaped for LIKE) in their title,
-- their site's name or their folder.
SELECT j.*, s.name AS site_name, s.colour, s.file_permissions, s.folder_permissions, s.in_place, s.reads_back, a.name AS account_name,
       p.site_id AS pair_site_id, p.other_site_id AS pair_other_id
  FROM jobs j
  JOIN sites s ON s.id = j.site_id
  JOIN accounts a ON a.id = j.account_id
  LEFT JOIN pairs p ON p.id = j.pair_id
 WHERE j.state IN ('done', 'stopped') AND j.id < %(before)s
   AND (%(everybody)s OR j.site_id IN %(whole)s OR (j.account_id = %(account)s AND j.site_id IN %(sites)s))
   AND (j.title LIKE %(wanted)s OR s.name LIKE %(wanted)s OR CONVERT(j.target_folder USING utf8mb4) LIKE %(wanted)s)
 ORDER BY j.id DESC
 LIMIT %(limit)s;

-- name: counts(everybody, account, sites, whole)
SELECT j.state, COUNT(*) AS jobs
  FROM jobs j
 WHERE j.state <> 'planned'
   AND (%(everybody)s OR j.site_id IN %(whole)s OR (j.account_id = %(account)s AND j.site_id IN %(sites)s))
 GROUP BY j.state;

-- name: unfinished_of_site(site_id)$
SELECT COUNT(*) FROM jobs WHERE site_id = %(site_id)s AND state IN ('waiting', 'running', 'paused');

-- name: next_to_claim(now)$
-- The oldest job that waits, or whose lease has run out. Skips what another runner is claiming, and a drop that is
-- promised to the page that holds its files.
SELECT id
  FROM jobs
 WHERE (state = 'waiting' AND after_job IS NULL AND (kind <> 'drop' OR lease_until IS NULL OR lease_until < %(now)s))
    OR (state = 'running' AND lease_until < %(now)s)
 ORDER BY priority DESC, id
 LIMIT 1
   FOR UPDATE SKIP LOCKED;

-- name: claim(id, owner, until, now)!
UPDATE jobs
   SET state = 'running', lease_owner = %(owner)s, lease_until = %(until)s,
       started_at = COALESCE(started_at, %(now)s), ended_at = NULL, claims = claims + 1
 WHERE id = %(id)s;

-- name: promise(id, until)!
-- A confirmed drop waits for its page, not for a runner, until that time.
UPDATE jobs SET lease_until = %(until)s WHERE id = %(id)s AND kind = 'drop' AND state = 'waiting';

-- name: take(id, owner, until, now)!
-- As claim, for one given job, where nobody else has it.
UPDATE jobs
   SET state = 'running', lease_owner = %(owner)s, lease_until = %(until)s, started_at = COALESCE(started_at, %(now)s)
 WHERE id = %(id)s AND state = 'waiting';

-- name: renew(id, owner, until)!
UPDATE jobs SET lease_until = %(until)s WHERE id = %(id)s AND lease_owner = %(owner)s AND state = 'running';

-- name: leases()
SELECT id, lease_owner FROM jobs WHERE state = 'running' AND lease_owner IS NOT NULL;

-- name: release(id, owner)!
UPDATE jobs SET state = 'waiting', lease_owner = NULL, lease_until = NULL
 WHERE id = %(id)s AND lease_owner = %(owner)s AND state = 'running';

-- name: wanted(id)^
SELECT stop_wanted, pause_wanted FROM jobs WHERE id = %(id)s;

-- name: want_pause(id)!
UPDATE jobs SET pause_wanted = TRUE WHERE id = %(id)s;

-- name: move_up(id)!
UPDATE jobs SET priority = (SELECT * FROM (SELECT COALESCE(MAX(priority), 0) + 1 FROM jobs WHERE state = 'waiting') p)
 WHERE id = %(id)s AND state = 'waiting';

-- name: want_stop(id)!
UPDATE jobs SET stop_wanted = TRUE WHERE id = %(id)s;

-- name: set_state(id, state, ended_at)!
UPDATE jobs SET state = %(state)s, ended_at = %(ended_at)s, stop_wanted = FALSE, pause_wanted = FALSE WHERE id = %(id)s;

-- name: finish(id, owner, state, trouble, kind, ended_at)!
UPDATE jobs
   SET state = %(state)s, trouble = %(trouble)s, trouble_kind = %(kind)s, ended_at = %(ended_at)s, lease_owner = NULL,
       lease_until = NULL, stop_wanted = FALSE, pause_wanted = FALSE
 WHERE id = %(id)s AND lease_owner = %(owner)s;

-- name: let_follow(id)!
-- What waited for a job may begin.
UPDATE jobs SET after_job = NULL WHERE after_job = %(id)s;

-- name: stop_followers(id, ended_at)!
-- What waited for a job that a person stopped is stopped with it.
UPDATE jobs SET state = 'stopped', ended_at = %(ended_at)s, after_job = NULL
 WHERE after_job = %(id)s AND state IN ('waiting', 'paused');

-- name: of_run(run_id)
SELECT id, state FROM jobs WHERE run_id = %(run_id)s ORDER BY id;

-- name: set_trouble(id, trouble)!
UPDATE jobs SET trouble = %(trouble)s, trouble_kind = NULL WHERE id = %(id)s;

-- name: add_counts(id, done_files, done_bytes, failed_files, failed_bytes, left_files, left_bytes)!
UPDATE jobs
   SET done_files = done_files + %(done_files)s, done_bytes = done_bytes + %(done_bytes)s,
       failed_files = failed_files + %(failed_files)s, failed_bytes = failed_bytes + %(failed_bytes)s,
       left_files = left_files + %(left_files)s, left_bytes = left_bytes + %(left_bytes)s
 WHERE id = %(id)s;

-- name: recount(id)!
-- The counts from the items themselves. Folders count nowhere; a removed folder is no file either.
UPDATE jobs j
  JOIN (SELECT SUM(action IN ('transfer', 'remove', 'restore', 'move', 'set-permissions')) AS planned_files,
               SUM(IF(action = 'transfer' OR action = 'restore', size, 0)) AS planned_bytes,
               SUM(action IN ('transfer', 'remove', 'restore', 'move', 'set-permissions') AND state = 'done') AS done_files,
               SUM(IF((action = 'transfer' OR action = 'restore') AND state = 'done', size, 0)) AS done_bytes,
               SUM(action IN ('transfer', 'remove', 'restore', 'move', 'set-permissions') AND state = 'failed') AS failed_files,
               SUM(IF((action = 'transfer' OR action = 'restore') AND state = 'failed', size, 0)) AS failed_bytes,
               SUM(action IN ('transfer', 'remove', 'restore', 'move', 'set-permissions') AND state = 'left') AS left_files,
               SUM(IF((action = 'transfer' OR action = 'restore') AND state = 'left', size, 0)) AS left_bytes
          FROM items
         WHERE job_id = %(id)s) c
   SET j.planned_files = COALESCE(c.planned_files, 0), j.planned_bytes = COALESCE(c.planned_bytes, 0),
       j.done_files = COALESCE(c.done_files, 0), j.done_bytes = COALESCE(c.done_bytes, 0),
       j.failed_files = COALESCE(c.failed_files, 0), j.failed_bytes = COALESCE(c.failed_bytes, 0),
       j.left_files = COALESCE(c.left_files, 0), j.left_bytes = COALESCE(c.left_bytes, 0)
 WHERE j.id = %(id)s;

-- name: set_room(id, room_bytes, one_by_one)!
UPDATE jobs SET room_bytes = %(room_bytes)s, one_by_one = %(one_by_one)s WHERE id = %(id)s AND state = 'planned';

-- name: remove(id)!
DELETE FROM jobs WHERE id = %(id)s AND state = 'planned';

-- name: forget_plans(before)!
-- Plans that were read and never carried out.
DELETE FROM jobs WHERE state = 'planned' AND created_at < %(before)s;

-- name: carried(site_id, to_side, limit)
-- What the latest jobs of a site carried one way in one go, and how long each took.
SELECT done_files, done_bytes, TIMESTAMPDIFF(MICROSECOND, started_at, ended_at) AS took_us
  FROM jobs
 WHERE site_id = %(site_id)s AND to_side = %(to_side)s AND state = 'done' AND kind IN ('transfer', 'sync')
   AND claims = 1 AND started_at IS NOT NULL AND ended_at IS NOT NULL AND done_files > 0
 ORDER BY id DESC
 LIMIT %(limit)s;

-- name: taking_back(job_id)
SELECT id FROM jobs WHERE takes_back = %(job_id)s AND state IN ('waiting', 'running', 'paused') ORDER BY id;
