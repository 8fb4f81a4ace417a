-- name: add(token_hash, name, is_admin, grants, made_by, made_at, ends_at)!
INSERT INTO invitations (token_hash, name, is_admin, grants, made_by, made_at, ends_at)
VALUES (%(token_hash)s, %(name)s, %(is_admin)s, %(grants)s, %(made_by)s, %(made_at)s, %(ends_at)s);

-- An invitation ends with the right of whoever made it: somebody who was let go would come back by it.
-- name: all(now)
SELECT i.id, i.name, i.is_admin, i.grants, a.name AS made_by, i.ends_at
  FROM invitations i
  JOIN accounts a ON a.id = i.made_by AND a.is_admin AND NOT a.is_off
 WHERE i.ends_at > %(now)s
 ORDER BY i.id DESC;

-- name: by_token(token_hash, now)^
SELECT i.id, i.name, i.is_admin, i.grants, a.name AS made_by, i.ends_at
  FROM invitations i
  JOIN accounts a ON a.id = i.made_by AND a.is_admin AND NOT a.is_off
 WHERE i.token_hash = %(token_hash)s AND i.ends_at > %(now)s;

-- name: take(token_hash, now)^
-- Locked: of two who use one invitation at once the second finds it gone.
SELECT id, is_admin, grants FROM invitations i
 WHERE token_hash = %(token_hash)s AND ends_at > %(now)s
   AND EXISTS (SELECT 1 FROM accounts a WHERE a.id = i.made_by AND a.is_admin AND NOT a.is_off)
   FOR UPDATE;

-- name: site_is_there(site_id)$
SELECT COUNT(*) FROM sites WHERE id = %(site_id)s;

-- name: remove(id)!
DELETE FROM invitations WHERE id = %(id)s;

-- name: forget_ended(now)!
DELETE FROM invitations WHERE ends_at <= %(now)s;
