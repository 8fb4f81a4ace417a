-- name: begin(site_id, account_id, path, kind, source, now)!
INSERT INTO replacements (site_id, account_id, path, kind, state, source, choices, joined, notes, pages, begun_at)
VALUES (%(site_id)s, %(account_id)s, %(path)s, %(kind)s, 'reading', %(source)s, '[]', '[]', '[]', '[]', %(now)s);

-- name: get(site_id, id)^
SELECT r.id, r.site_id, r.account_id, r.path, r.kind, r.state, r.source, r.title, r.old_version, r.new_version,
       r.old_copy_id, r.new_copy_id, r.base_copy_id, r.choices, r.joined, r.notes, r.in_place, r.fresh, r.kept, r.job_id, r.removal_id,
       r.pages, r.words, r.begun_at, r.ended_at, r.let_go_at, a.name AS account_name
  FROM replacements r
  LEFT JOIN accounts a ON a.id = r.account_id
 WHERE r.site_id = %(site_id)s AND r.id = %(id)s;

-- name: of(site_id)
SELECT r.id, r.site_id, r.account_id, r.path, r.kind, r.state, r.source, r.title, r.old_version, r.new_version,
       r.old_copy_id, r.new_copy_id, r.base_copy_id, r.choices, r.joined, r.notes, r.in_place, r.fresh, r.kept, r.job_id, r.removal_id,
       r.pages, r.words, r.begun_at, r.ended_at, r.let_go_at, a.name AS account_name
  FROM replacements r
  LEFT JOIN accounts a ON a.id = r.account_id
 WHERE r.site_id = %(site_id)s AND r.state <> 'dropped'
 ORDER BY r.id DESC
 LIMIT 40;

-- name: under_way()
SELECT r.id, r.site_id, r.account_id, r.path, r.kind, r.state, r.source, r.title, r.old_version, r.new_version,
       r.old_copy_id, r.new_copy_id, r.base_copy_id, r.choices, r.joined, r.notes, r.in_place, r.fresh, r.kept, r.job_id, r.removal_id,
       r.pages, r.words, r.begun_at, r.ended_at, r.let_go_at, a.name AS account_name
  FROM replacements r
  LEFT JOIN accounts a ON a.id = r.account_id
 WHERE r.state IN ('building', 'swapping', 'looking', 'restoring')
 ORDER BY r.id;

-- name: planned(id, title, old_version, new_version, old_copy_id, new_copy_id, base_copy_id, notes, in_place)!
UPDATE replacements
   SET state = 'planned', title = %(title)s, old_version = %(old_version)s, new_version = %(new_version)s,
       old_copy_id = %(old_copy_id)s, new_copy_id = %(new_copy_id)s, base_copy_id = %(base_copy_id)s, notes = %(notes)s,
       in_place = %(in_place)s
 WHERE id = %(id)s;

-- name: choose(id, choices, joined)!
UPDATE replacements SET choices = %(choices)s, joined = %(joined)s WHERE id = %(id)s;

-- name: set_in_place(id, in_place)!
UPDATE replacements SET in_place = %(in_place)s WHERE id = %(id)s;

-- name: build(id, fresh, kept, job_id, pages)!
UPDATE replacements
   SET state = 'building', words = '', ended_at = NULL, fresh = %(fresh)s, kept = %(kept)s, job_id = %(job_id)s,
       pages = %(pages)s
 WHERE id = %(id)s;

-- name: set_state(id, state, words, ended_at)!
UPDATE replacements SET state = %(state)s, words = %(words)s, ended_at = %(ended_at)s WHERE id = %(id)s;

-- name: removes(id, removal_id)!
UPDATE replacements SET removal_id = %(removal_id)s WHERE id = %(id)s;

-- name: claim(id, was, state)!
-- Whoever changes the state first goes on with it.
UPDATE replacements SET state = %(state)s, words = '', ended_at = NULL WHERE id = %(id)s AND state = %(was)s;

-- name: let_go(id, now)!
UPDATE replacements SET let_go_at = %(now)s WHERE id = %(id)s;

-- name: decided(id)^
SELECT state, choices, joined, in_place FROM replacements WHERE id = %(id)s FOR UPDATE;

-- name: lock(id)$
SELECT state FROM replacements WHERE id = %(id)s FOR UPDATE;

-- name: fail_taken_in(id, now)!
UPDATE verified_copies p JOIN replacements r ON r.id = %(id)s AND r.site_id = p.site_id AND r.path = p.path
   SET p.state = 'failed', p.problem = 'Nailer ended meanwhile.', p.ended_at = %(now)s
 WHERE p.state = 'copying' AND p.kind = 'delivered';
