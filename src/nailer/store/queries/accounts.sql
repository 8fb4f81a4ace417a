-- name: add(name, password_hash, is_admin, now)!
INSERT INTO accounts (name, password_hash, is_admin, created_at)
VALUES (%(name)s, %(password_hash)s, %(is_admin)s, %(now)s);

-- name: by_name(name)^
SELECT id, name, password_hash, is_admin, is_off, mail, created_at FROM accounts WHERE name = %(name)s;

-- name: by_id(id)^
SELECT id, name, password_hash, is_admin, is_off, mail, created_at FROM accounts WHERE id = %(id)s;

-- name: all()
SELECT id, name, password_hash, is_admin, is_off, mail, created_at FROM accounts ORDER BY name;

-- name: asks_second(id)$
SELECT a.code_secret IS NOT NULL OR EXISTS (SELECT 1 FROM passkeys p WHERE p.account_id = a.id)
  FROM accounts a
 WHERE a.id = %(id)s;

-- name: admins_left(without)$
SELECT COUNT(*) FROM accounts WHERE is_admin AND NOT is_off AND id <> %(without)s;

-- name: set_profile(id, name, mail)!
UPDATE accounts SET name = %(name)s, mail = %(mail)s WHERE id = %(id)s;

-- name: set_standing(id, is_admin, is_off)!
UPDATE accounts SET is_admin = %(is_admin)s, is_off = %(is_off)s WHERE id = %(id)s;

-- name: hand_over_jobs(old, new)!
UPDATE jobs SET account_id = %(new)s WHERE account_id = %(old)s;

-- name: hand_over_timers(old, new)!
UPDATE timers SET account_id = %(new)s WHERE account_id = %(old)s;

-- name: remove(id)!
DELETE FROM accounts WHERE id = %(id)s;

-- name: count()$
SELECT COUNT(*) FROM accounts;

-- name: lock_for_first()$
-- Serialises the making of the first account: two first visitors must not both become it.
SELECT GET_LOCK('nailer first account', 5);

-- name: unlock_for_first()$
SELECT RELEASE_LOCK('nailer first account');

-- name: set_password(id, password_hash)!
UPDATE accounts SET password_hash = %(password_hash)s WHERE id = %(id)s;

-- name: add_session(token_hash, account_id, csrf, half, device, address, now, ends_at)!
INSERT INTO sessions (token_hash, account_id, csrf, half, device, address, created_at, seen_at, ends_at)
VALUES (%(token_hash)s, %(account_id)s, %(csrf)s, %(half)s, %(device)s, %(address)s, %(now)s, %(now)s, %(ends_at)s);

-- name: session(token_hash, now, seen_after)^
-- Whoever was switched off is out at once.
SELECT s.token_hash AS `key`, s.id, s.account_id, s.csrf, s.half, s.seen_at, a.name, a.is_admin, a.preferences,
       a.needs_second AND a.code_secret IS NULL
         AND NOT EXISTS (SELECT 1 FROM passkeys p WHERE p.account_id = a.id) AS lacks_second
  FROM sessions s
  JOIN accounts a ON a.id = s.account_id
 WHERE s.token_hash = %(token_hash)s AND s.ends_at > %(now)s AND NOT a.is_off
   AND (s.seen_at IS NULL OR s.seen_at > %(seen_after)s);

-- name: session_lasts(id, account_id, now, seen_after)$
-- Whether a session has not ended. It does not count as use of it.
SELECT COUNT(*)
  FROM sessions s
  JOIN accounts a ON a.id = s.account_id
 WHERE s.id = %(id)s AND s.account_id = %(account_id)s AND s.ends_at > %(now)s AND s.half = 0 AND NOT a.is_off
   AND (s.seen_at IS NULL OR s.seen_at > %(seen_after)s);

-- name: see_session(token_hash, now)!
UPDATE sessions SET seen_at = %(now)s WHERE token_hash = %(token_hash)s;

-- name: sessions_of(account_id, now, seen_after)
SELECT id, device, address, created_at, seen_at
  FROM sessions
 WHERE account_id = %(account_id)s AND ends_at > %(now)s AND (seen_at IS NULL OR seen_at > %(seen_after)s)
 ORDER BY seen_at DESC;

-- name: session_ids(account_id)
SELECT id FROM sessions WHERE account_id = %(account_id)s;

-- name: end_session(token_hash)!
DELETE FROM sessions WHERE token_hash = %(token_hash)s;

-- name: end_one_session(account_id, id)!
DELETE FROM sessions WHERE account_id = %(account_id)s AND id = %(id)s;

-- name: end_sessions(account_id, but)!
DELETE FROM sessions WHERE account_id = %(account_id)s AND id <> %(but)s;

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

-- name: set_preferences(id, preferences)!
UPDATE accounts SET preferences = %(preferences)s WHERE id = %(id)s;
