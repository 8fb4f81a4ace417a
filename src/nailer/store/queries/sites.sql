-- name: groups()
SELECT id, parent_id, name, position FROM site_groups ORDER BY position, id;

-- name: add_group(parent_id, name, position)!
INSERT INTO site_groups (parent_id, name, position) VALUES (%(parent_id)s, %(name)s, %(position)s);

-- name: all()
SELECT id, group_id, position, name, colour, protocol, host, port, user_name, credential_id, start_here, start_there,
       note, opened_at, password_kept, key_file, agent, old_allowed, passive, charset, connections_most, proxy_kind,
       proxy_host, proxy_port, proxy_user, clock_offset_s, clock_how, file_permissions, folder_permissions, in_place, reads_back, from_home, package_bytes,
       fleeting, fingerprint, guards_proposed
  FROM sites
 ORDER BY position, id;

-- name: by_id(id)^
SELECT id, group_id, position, name, colour, protocol, host, port, user_name, credential_id, start_here, start_there,
       note, opened_at, password_kept, key_file, agent, old_allowed, passive, charset, connections_most, proxy_kind,
       proxy_host, proxy_port, proxy_user, clock_offset_s, clock_how, file_permissions, folder_permissions, in_place, reads_back, from_home, package_bytes,
       fleeting, fingerprint, guards_proposed
  FROM sites
 WHERE id = %(id)s;

-- name: add(position, credential_id, group_id, name, colour, protocol, host, port, user_name, start_here, start_there, note, password_kept, key_file, agent, old_allowed, passive, charset, connections_most, proxy_kind, proxy_host, proxy_port, proxy_user, clock_offset_s, clock_how, file_permissions, folder_permissions, in_place, reads_back, from_home, package_bytes, fleeting, fingerprint, now)!
INSERT INTO sites (position, credential_id, group_id, name, colour, protocol, host, port, user_name, start_here, start_there, note,
                   password_kept, key_file, agent, old_allowed, passive, charset, connections_most, proxy_kind, proxy_host,
                   proxy_port, proxy_user, clock_offset_s, clock_how, file_permissions, folder_permissions, in_place, reads_back, from_home, package_bytes, fleeting,
                   fingerprint, created_at)
VALUES (%(position)s, %(credential_id)s, %(group_id)s, %(name)s, %(colour)s, %(protocol)s, %(host)s, %(port)s,
        %(user_name)s, %(start_here)s, %(start_there)s, %(note)s, %(password_kept)s, %(key_file)s, %(agent)s,
        %(old_allowed)s, %(passive)s, %(charset)s, %(connections_most)s, %(proxy_kind)s, %(proxy_host)s, %(proxy_port)s,
        %(proxy_user)s, %(clock_offset_s)s, %(clock_how)s, %(file_permissions)s, %(folder_permissions)s, %(in_place)s, %(reads_back)s, %(from_home)s, %(package_bytes)s,
        %(fleeting)s, %(fingerprint)s, %(now)s);

-- name: update(id, credential_id, group_id, name, colour, protocol, host, port, user_name, start_here, start_there, note, password_kept, key_file, agent, old_allowed, passive, charset, connections_most, proxy_kind, proxy_host, proxy_port, proxy_user, clock_offset_s, clock_how, file_permissions, folder_permissions, in_place, reads_back, from_home, package_bytes, fleeting, fingerprint)!
UPDATE sites
   SET credential_id = %(credential_id)s, group_id = %(group_id)s, name = %(name)s, colour = %(colour)s,
       protocol = %(protocol)s, host = %(host)s, port = %(port)s, user_name = %(user_name)s,
       start_here = %(start_here)s, start_there = %(start_there)s, note = %(note)s, password_kept = %(password_kept)s,
       key_file = %(key_file)s, agent = %(agent)s, old_allowed = %(old_allowed)s, passive = %(passive)s,
       charset = %(charset)s, connections_most = %(connections_most)s, proxy_kind = %(proxy_kind)s,
       proxy_host = %(proxy_host)s, proxy_port = %(proxy_port)s, proxy_user = %(proxy_user)s,
       clock_offset_s = %(clock_offset_s)s, clock_how = %(clock_how)s, file_permissions = %(file_permissions)s,
       folder_permissions = %(folder_permissions)s, in_place = %(in_place)s, reads_back = %(reads_back)s, from_home = %(from_home)s, package_bytes = %(package_bytes)s, fleeting = %(fleeting)s,
       fingerprint = %(fingerprint)s
 WHERE id = %(id)s;

-- name: set_start(id, start_there)!
-- The start folder once the account's home is known.
UPDATE sites SET start_there = %(start_there)s, from_home = FALSE WHERE id = %(id)s AND from_home;

-- name: move_document_roots(site_id, old, new)!
UPDATE document_roots SET folder = %(new)s WHERE site_id = %(site_id)s AND folder = %(old)s;

-- name: set_in_place(id, in_place)!
UPDATE sites SET in_place = %(in_place)s WHERE id = %(id)s;

-- name: remove(id)!
DELETE FROM sites WHERE id = %(id)s;

-- name: opened(id, now)!
UPDATE sites SET opened_at = %(now)s WHERE id = %(id)s;

-- name: document_roots(site_id)
SELECT folder, address FROM document_roots WHERE site_id = %(site_id)s ORDER BY position;

-- name: all_document_roots()
SELECT site_id, folder, address FROM document_roots ORDER BY site_id, position;

-- name: add_document_root(site_id, position, folder, address)!
INSERT INTO document_roots (site_id, position, folder, address)
VALUES (%(site_id)s, %(position)s, %(folder)s, %(address)s);

-- name: clear_document_roots(site_id)!
DELETE FROM document_roots WHERE site_id = %(site_id)s;

-- name: guarded_folders(site_id)
SELECT folder FROM guarded_folders WHERE site_id = %(site_id)s ORDER BY folder;

-- name: all_guarded_folders()
SELECT site_id, folder FROM guarded_folders ORDER BY site_id, folder;

-- name: add_guarded_folder(site_id, folder)!
INSERT IGNORE INTO guarded_folders (site_id, folder) VALUES (%(site_id)s, %(folder)s);

-- name: clear_guarded_folders(site_id)!
DELETE FROM guarded_folders WHERE site_id = %(site_id)s;

-- name: add_credential(label, now)!
INSERT INTO credentials (label, created_at) VALUES (%(label)s, %(now)s);

-- name: seal_credential(id, sealed_password, sealed_private_key, sealed_passphrase, sealed_one_time_secret, sealed_proxy_password)!
UPDATE credentials
   SET sealed_password = %(sealed_password)s, sealed_private_key = %(sealed_private_key)s,
       sealed_passphrase = %(sealed_passphrase)s, sealed_one_time_secret = %(sealed_one_time_secret)s,
       sealed_proxy_password = %(sealed_proxy_password)s
 WHERE id = %(id)s;

-- name: credential(id)^
SELECT id, label, sealed_password, sealed_private_key, sealed_passphrase, sealed_one_time_secret, sealed_proxy_password
  FROM credentials
 WHERE id = %(id)s;

-- name: credentials()
-- Every stored sign-in with how many sites use it; only whether there is a secret of a kind, never the secret.
SELECT c.id, c.label, c.sealed_password IS NOT NULL AS has_password, c.sealed_private_key IS NOT NULL AS has_private_key,
       c.sealed_one_time_secret IS NOT NULL AS has_one_time_secret, COUNT(s.id) AS sites,
       COALESCE(MIN(s.host), '') AS host, COALESCE(MIN(s.user_name), '') AS user_name
  FROM credentials c LEFT JOIN sites s ON s.credential_id = c.id
 GROUP BY c.id, c.label, has_password, has_private_key, has_one_time_secret
 ORDER BY c.label, c.id;

-- name: drop_unused_credentials()!
DELETE FROM credentials WHERE id NOT IN (SELECT credential_id FROM sites WHERE credential_id IS NOT NULL);

-- name: pinned(host, port)
SELECT id, algorithm, fingerprint, public_key, trusted_at, how
  FROM pinned_keys
 WHERE host = %(host)s AND port = %(port)s
 ORDER BY id;

-- name: all_pinned()
SELECT id, host, port, algorithm, fingerprint, public_key, trusted_at, how FROM pinned_keys ORDER BY host, port, id;

-- name: pin(host, port, algorithm, fingerprint, public_key, now, trusted_by, how)!
INSERT INTO pinned_keys (host, port, algorithm, fingerprint, public_key, trusted_at, trusted_by, how)
VALUES (%(host)s, %(port)s, %(algorithm)s, %(fingerprint)s, %(public_key)s, %(now)s, %(trusted_by)s, %(how)s);

-- name: unpin(host, port)!
DELETE FROM pinned_keys WHERE host = %(host)s AND port = %(port)s;

-- name: pinned_by_id(id)^
SELECT id, host, port, algorithm, fingerprint, public_key, trusted_at, how FROM pinned_keys WHERE id = %(id)s;

-- name: unpin_one(id)!
DELETE FROM pinned_keys WHERE id = %(id)s;

-- name: add_identity_event(host, port, what, algorithm, fingerprint, how, account_id, now)!
INSERT INTO identity_events (host, port, what, algorithm, fingerprint, how, account_id, happened_at)
VALUES (%(host)s, %(port)s, %(what)s, %(algorithm)s, %(fingerprint)s, %(how)s, %(account_id)s, %(now)s);

-- name: identity_events(host, port)
SELECT e.what, e.algorithm, e.fingerprint, e.how, e.happened_at, a.name AS account_name
  FROM identity_events e LEFT JOIN accounts a ON a.id = e.account_id
 WHERE e.host = %(host)s AND e.port = %(port)s
 ORDER BY e.id DESC
 LIMIT 50;

-- name: all_identity_events()
SELECT e.host, e.port, e.what, e.algorithm, e.fingerprint, e.how, e.happened_at, a.name AS account_name
  FROM identity_events e LEFT JOIN accounts a ON a.id = e.account_id
 ORDER BY e.id DESC
 LIMIT 1000;

-- name: learn(id, learned, clock_offset_s, now)!
UPDATE sites
   SET learned = %(learned)s, learned_at = %(now)s,
       clock_offset_s = IF(clock_how = 'measured', COALESCE(%(clock_offset_s)s, clock_offset_s), clock_offset_s)
 WHERE id = %(id)s;

-- name: learned(id)^
SELECT learned, learned_at FROM sites WHERE id = %(id)s;

-- name: set_place(id, group_id, position)!
UPDATE sites SET group_id = %(group_id)s, position = %(position)s WHERE id = %(id)s;

-- name: rename_group(id, name)!
UPDATE site_groups SET name = %(name)s WHERE id = %(id)s;

-- name: move_group(id, parent_id, position)!
UPDATE site_groups SET parent_id = %(parent_id)s, position = %(position)s WHERE id = %(id)s;

-- name: empty_group_sites(id, parent_id)!
UPDATE sites SET group_id = %(parent_id)s WHERE group_id = %(id)s;

-- name: empty_group_groups(id, parent_id)!
UPDATE site_groups SET parent_id = %(parent_id)s WHERE parent_id = %(id)s;

-- name: remove_group(id)!
DELETE FROM site_groups WHERE id = %(id)s;

-- name: goes_with(id)^
-- What is removed together with a site.
SELECT (SELECT COUNT(*) FROM jobs WHERE site_id = %(id)s) AS jobs,
       (SELECT COUNT(*) FROM changes WHERE site_id = %(id)s) AS changes,
       (SELECT COUNT(*) FROM baselines WHERE site_id = %(id)s) AS baselines,
       (SELECT COUNT(*) FROM pairs WHERE site_id = %(id)s OR other_site_id = %(id)s) AS pairs,
       (SELECT COUNT(*) FROM timers t LEFT JOIN pairs p ON p.id = t.pair_id
         WHERE %(id)s IN (p.site_id, p.other_site_id, t.site_id)) AS timers;

-- name: visit(site_id, account_id, place, here, there, now)!
INSERT INTO site_places (site_id, account_id, place, here, there, visited_at)
VALUES (%(site_id)s, %(account_id)s, %(place)s, %(here)s, %(there)s, %(now)s)
ON DUPLICATE KEY UPDATE visited_at = %(now)s;

-- name: pin_place(site_id, account_id, place, pinned)!
UPDATE site_places SET pinned = %(pinned)s
 WHERE site_id = %(site_id)s AND account_id = %(account_id)s AND place = %(place)s;

-- name: places(site_id, account_id)
SELECT here, there, pinned, visited_at FROM site_places
 WHERE site_id = %(site_id)s AND account_id = %(account_id)s
 ORDER BY pinned DESC, visited_at DESC
 LIMIT 24;

-- name: fleeting()
-- Sites that were only connected to once, and have no unfinished job.
SELECT id FROM sites
 WHERE fleeting AND id NOT IN (SELECT site_id FROM jobs WHERE state IN ('waiting', 'running'));

-- name: add_guards(id)!
UPDATE sites SET guards_proposed = TRUE WHERE id = %(id)s;

-- name: forget_places(site_id, account_id)!
-- A person's recent places of a site; pinned ones stay.
DELETE FROM site_places WHERE site_id = %(site_id)s AND account_id = %(account_id)s AND NOT pinned;

-- name: forget_openings()!
-- When sites were opened last; nothing else of them.
UPDATE sites SET opened_at = NULL;
