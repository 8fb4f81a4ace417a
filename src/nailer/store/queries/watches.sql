-- name: add(job_id, addresses)!
REPLACE INTO watched_jobs (job_id, addresses) VALUES (%(job_id)s, %(addresses)s);

-- name: of_job(job_id)^
SELECT job_id, addresses, before_answers, worse, back_job_id, ended_at FROM watched_jobs WHERE job_id = %(job_id)s;

-- name: before(job_id, answers)!
-- A job that is tried again keeps what its pages were like at first.
UPDATE watched_jobs SET before_answers = %(answers)s WHERE job_id = %(job_id)s AND before_answers IS NULL;

-- name: end(job_id, worse, back_job_id, now)!
UPDATE watched_jobs
   SET worse = %(worse)s, back_job_id = %(back_job_id)s, ended_at = %(now)s
 WHERE job_id = %(job_id)s;

-- name: unended()
-- Jobs that have ended and whose pages nobody has looked at since.
SELECT w.job_id
  FROM watched_jobs w
  JOIN jobs j ON j.id = w.job_id
 WHERE w.ended_at IS NULL AND w.before_answers IS NOT NULL AND j.state IN ('done', 'stopped', 'needs-you')
 ORDER BY w.job_id;
