-- name: of_account(account_id)^
SELECT a.code_secret IS NOT NULL AS has_codes, a.needs_second,
       (SELECT COUNT(*) FROM recovery_codes r WHERE r.account_id = a.id) AS recovery_left
  FROM accounts a
 WHERE a.id = %(account_id)s;

-- name: passkeys(account_id)
SELECT id, name, created_at, used_at, credential, public_key, sign_count
  FROM passkeys
 WHERE account_id = %(account_id)s
 ORDER BY id;

-- name: secret(account_id)^
SELECT code_secret FROM accounts WHERE id = %(account_id)s;

-- name: set_secret(account_id, secret, step)!
UPDATE accounts SET code_secret = %(secret)s, code_step = %(step)s WHERE id = %(account_id)s;

-- name: use_step(account_id, step)!
UPDATE accounts SET code_step = %(step)s WHERE id = %(account_id)s AND code_step < %(step)s;

-- name: add_recovery(account_id, code_hash)!
INSERT INTO recovery_codes (account_id, code_hash) VALUES (%(account_id)s, %(code_hash)s);

-- name: use_recovery(account_id, code_hash)!
DELETE FROM recovery_codes WHERE account_id = %(account_id)s AND code_hash = %(code_hash)s;

-- name: forget_recovery(account_id)!
DELETE FROM recovery_codes WHERE account_id = %(account_id)s;

-- name: add_passkey(account_id, credential_hash, credential, public_key, sign_count, name, now)!
INSERT INTO passkeys (account_id, credential_hash, credential, public_key, sign_count, name, created_at)
VALUES (%(account_id)s, %(credential_hash)s, %(credential)s, %(public_key)s, %(sign_count)s, %(name)s, %(now)s);

-- name: passkey_used(id, sign_count, now)!
UPDATE passkeys SET sign_count = %(sign_count)s, used_at = %(now)s WHERE id = %(id)s;

-- name: forget_passkey(account_id, id)!
DELETE FROM passkeys WHERE account_id = %(account_id)s AND id = %(id)s;

-- name: forget_passkeys(account_id)!
DELETE FROM passkeys WHERE account_id = %(account_id)s;

-- name: require(account_id, required)!
UPDATE accounts SET needs_second = %(required)s WHERE id = %(account_id)s;

-- name: complete_sign_in(token_hash)!
UPDATE sessions SET half = 0 WHERE token_hash = %(token_hash)s;
