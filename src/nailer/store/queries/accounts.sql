-- name: add(name, password_hash, now)!
INSERT INTO accounts (name, password_hash, created_at) VALUES (%(name)s, %(password_hash)s, %(now)s);

-- name: by_name(name)^
SELECT id, name, password_hash FROM accounts WHERE name = %(name)s;

-- name: by_id(id)^
SELECT id, name, password_hash FROM accounts WHERE id = %(id)s;

-- name: count()$
SELECT COUNT(*) FROM accounts;

-- name: lock_for_first()$
-- Serialises the making of the first account: two first visitors must not both become it.
SELECT GET_LOCK('nailer first account', 5);

-- name: unlock_for_first()$
SELECT RELEASE_LOCK('nailer first account');

-- name: set_password(id, password_hash)!
UPDATE accounts SET password_hash = %(password_hash)s WHERE id = %(id)s;

-- name: add_session(token_hash, account_id, csrf, now, ends_at)!
INSERT INTO sessions (token_hash, account_id, csrf, created_at, ends_at)
VALUES (%(token_hash)s, %(account_id)s, %(csrf)s, %(now)s, %(ends_at)s);

-- name: session(token_hash, now)^
SELECT s.account_id, s.csrf, a.name
  FROM sessions s
  JOIN accounts a ON a.id = s.account_id
 WHERE s.token_hash = %(token_hash)s AND s.ends_at > %(now)s;

-- name: end_session(token_hash)!
DELETE FROM sessions WHERE token_hash = %(token_hash)s;

-- name: end_old_sessions(now)!
DELETE FROM sessions WHERE ends_at <= %(now)s;

-- name: watch(who, now)!
INSERT INTO refusals (who, failures, last_at) VALUES (%(who)s, 0, %(now)s)
ON DUPLICATE KEY UPDATE who = who;

-- name: tries(who)^
SELECT failures, last_at FROM refusals WHERE who = %(who)s FOR UPDATE;

-- name: count_try(who, failures, now)!
UPDATE refusals SET failures = %(failures)s, last_at = %(now)s WHERE who = %(who)s;

-- name: forget_tries(who)!
DELETE FROM refusals WHERE who = %(who)s;

-- name: forget_try(who)!
UPDATE refusals SET failures = GREATEST(failures - 1, 0) WHERE who = %(who)s;

-- name: forget_old_tries(before)!
DELETE FROM refusals WHERE last_at < %(before)s;

-- name: when_done(id)^
SELECT mail, mail_when_done, close_when_done FROM accounts WHERE id = %(id)s;

-- name: set_when_done(id, mail, write, close)!
UPDATE accounts SET mail = %(mail)s, mail_when_done = %(write)s, close_when_done = %(close)s WHERE id = %(id)s;
