-- name: of_account(account_id)
SELECT g.site_id, g.rights, g.folder_there, g.folder_here, s.start_here
  FROM grants g
  JOIN sites s ON s.id = g.site_id
 WHERE g.account_id = %(account_id)s;

-- name: all()
SELECT g.account_id, a.name AS person, g.site_id, s.name AS site, g.rights, g.folder_there, g.folder_here,
       s.start_here
  FROM grants g
  JOIN accounts a ON a.id = g.account_id
  JOIN sites s ON s.id = g.site_id
 ORDER BY a.name, s.name;

-- name: give(account_id, site_id, rights, folder_there, folder_here)!
INSERT INTO grants (account_id, site_id, rights, folder_there, folder_here)
VALUES (%(account_id)s, %(site_id)s, %(rights)s, %(folder_there)s, %(folder_here)s)
ON DUPLICATE KEY UPDATE rights = VALUES(rights), folder_there = VALUES(folder_there), folder_here = VALUES(folder_here);

-- name: take(account_id, site_id)!
DELETE FROM grants WHERE account_id = %(account_id)s AND site_id = %(site_id)s;
