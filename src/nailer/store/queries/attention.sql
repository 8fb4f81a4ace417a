-- name: counts()
SELECT site_id, serious, others, certificate FROM site_finding_counts;

-- name: uncounted()
-- Sites whose findings were stored before they were counted.
SELECT DISTINCT f.site_id
  FROM site_findings f
  LEFT JOIN site_finding_counts c ON c.site_id = f.site_id
 WHERE c.site_id IS NULL;

-- name: count(site_id, serious, others, certificate)!
REPLACE INTO site_finding_counts (site_id, serious, others, certificate)
VALUES (%(site_id)s, %(serious)s, %(others)s, %(certificate)s);

-- name: sites()
SELECT s.id AS site_id, s.created_at,
       (SELECT MAX(r.ended_at) FROM site_scans r WHERE r.site_id = s.id AND r.state = 'done') AS scanned_at,
       EXISTS (SELECT 1 FROM verified_copies p WHERE p.site_id = s.id AND p.kind = 'copy' AND p.state = 'verified') AS copied,
       EXISTS (SELECT 1 FROM site_facts f WHERE f.site_id = s.id AND f.name LIKE 'folder of %%' AND f.value <> '') AS tested
  FROM sites s;

-- name: failed_timers()
-- Timers that are on and whose last run needs somebody.
SELECT t.id, COALESCE(NULLIF(t.name, ''), p.name, '') AS name, COALESCE(p.site_id, t.site_id) AS site_id,
       COALESCE(r.state, j.state) AS state, COALESCE(r.ended_at, j.ended_at, r.started_at, j.started_at) AS at
  FROM timers t
  LEFT JOIN pairs p ON p.id = t.pair_id
  LEFT JOIN sync_runs r ON r.id = (SELECT MAX(x.id) FROM sync_runs x WHERE x.timer_id = t.id)
  LEFT JOIN timer_jobs j ON j.id = (SELECT MAX(y.id) FROM timer_jobs y WHERE y.timer_id = t.id)
 WHERE t.is_on AND COALESCE(r.state, j.state) IN ('needs-you', 'stopped', 'asked', 'failed');
