-- name: all()
SELECT site_id, up, down, hours FROM limits;

-- name: write(site_id, up, down, hours)!
INSERT INTO limits (site_id, up, down, hours)
VALUES (%(site_id)s, %(up)s, %(down)s, %(hours)s)
ON DUPLICATE KEY UPDATE up = VALUES(up), down = VALUES(down), hours = VALUES(hours);
