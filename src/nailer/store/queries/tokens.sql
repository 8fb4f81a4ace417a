-- name: add(account_id, name, token_hash, sites, rights, now, ends_at)!
INSERT INTO tokens (account_id, name, token_hash, sites, rights, created_at, ends_at)
VALUES (%(account_id)s, %(name)s, %(token_hash)s, %(sites)s, %(rights)s, %(now)s, %(ends_at)s);

-- name: by_hash(token_hash, now)^
SELECT t.id, t.account_id, t.name, t.sites, t.rights, t.created_at, t.ends_at, t.used_at
  FROM tokens t
  JOIN accounts a ON a.id = t.account_id
 WHERE t.token_hash = %(token_hash)s AND t.ends_at > %(now)s AND NOT a.is_off;

-- name: of_account(account_id)
SELECT id, account_id, name, sites, rights, created_at, ends_at, used_at
  FROM tokens
 WHERE account_id = %(account_id)s
 ORDER BY id DESC;

-- name: used(id, now)!
UPDATE tokens SET used_at = %(now)s WHERE id = %(id)s;

-- name: revoke(account_id, id)!
DELETE FROM tokens WHERE account_id = %(account_id)s AND id = %(id)s;

-- name: all_sites()
SELECT id, start_here FROM sites;

-- name: begin_answer(token_id, request_key, request_hash, now)!
INSERT IGNORE INTO answered_requests (token_id, request_key, request_hash, at)
VALUES (%(token_id)s, %(request_key)s, %(request_hash)s, %(now)s);

-- name: answered(token_id, request_key)^
SELECT request_hash, status, body FROM answered_requests WHERE token_id = %(token_id)s AND request_key = %(request_key)s;

-- name: end_answer(token_id, request_key, status, body)!
UPDATE answered_requests SET status = %(status)s, body = %(body)s
 WHERE token_id = %(token_id)s AND request_key = %(request_key)s;

-- name: drop_answer(token_id, request_key)!
DELETE FROM answered_requests WHERE token_id = %(token_id)s AND request_key = %(request_key)s;

-- name: forget_answers(before)!
DELETE FROM answered_requests WHERE at < %(before)s;
