-- name: by_id(id)^
SELECT d.*, a.name AS account_name FROM drafts d JOIN accounts a ON a.id = d.account_id WHERE d.id = %(id)s;

-- name: of_file(account_id, site_id, side, path_hash)^
SELECT d.*, a.name AS account_name FROM drafts d JOIN accounts a ON a.id = d.account_id
WHERE d.account_id = %(account_id)s AND d.site_id = %(site_id)s AND d.side = %(side)s AND d.path_hash = %(path_hash)s;

-- name: of_account(account_id)
SELECT d.id, d.site_id, d.side, d.path, d.text IS NOT NULL AS has_changes, d.changed_at, d.base_size, s.name AS site_name
FROM drafts d JOIN sites s ON s.id = d.site_id
WHERE d.account_id = %(account_id)s ORDER BY d.opened_at, d.id;

-- name: others(account_id, site_id, side, path_hash, since)
SELECT a.name AS account_name, d.text IS NOT NULL AS has_changes
FROM drafts d JOIN accounts a ON a.id = d.account_id
WHERE d.site_id = %(site_id)s AND d.side = %(side)s AND d.path_hash = %(path_hash)s
  AND d.account_id <> %(account_id)s AND (d.seen_at > %(since)s OR d.text IS NOT NULL)
ORDER BY a.name;

-- name: add(account_id, site_id, side, path, path_hash, base, base_size, base_time_ns, base_precision_ns, encoding, mark, line_end, mixed, text, now)!
INSERT INTO drafts (account_id, site_id, side, path, path_hash, base, base_size, base_time_ns, base_precision_ns, encoding,
                    mark, line_end, mixed, text, opened_at, seen_at)
VALUES (%(account_id)s, %(site_id)s, %(side)s, %(path)s, %(path_hash)s, %(base)s, %(base_size)s, %(base_time_ns)s,
        %(base_precision_ns)s, %(encoding)s, %(mark)s, %(line_end)s, %(mixed)s, %(text)s, %(now)s, %(now)s);

-- name: type(id, text, history, now)!
UPDATE drafts SET text = %(text)s, history = %(history)s, changed_at = %(now)s, seen_at = %(now)s WHERE id = %(id)s;

-- name: rebase(id, base, base_size, base_time_ns, base_precision_ns, encoding, mark, line_end, mixed, text)!
UPDATE drafts SET base = %(base)s, base_size = %(base_size)s, base_time_ns = %(base_time_ns)s,
       base_precision_ns = %(base_precision_ns)s, encoding = %(encoding)s, mark = %(mark)s, line_end = %(line_end)s,
       mixed = %(mixed)s, text = %(text)s WHERE id = %(id)s;

-- name: see(id, now)!
UPDATE drafts SET seen_at = %(now)s WHERE id = %(id)s;

-- name: remove(id)!
DELETE FROM drafts WHERE id = %(id)s;

-- name: forget_read(before)!
DELETE FROM drafts WHERE text IS NULL AND seen_at < %(before)s;

-- name: ways(site_id)^
SELECT save_asks, guarded_save, watched, purge_address FROM site_ways WHERE site_id = %(site_id)s;

-- name: write_ways(site_id, save_asks, guarded_save, watched, purge_address)!
INSERT INTO site_ways (site_id, save_asks, guarded_save, watched, purge_address)
VALUES (%(site_id)s, %(save_asks)s, %(guarded_save)s, %(watched)s, %(purge_address)s)
ON DUPLICATE KEY UPDATE save_asks = VALUES(save_asks), guarded_save = VALUES(guarded_save), watched = VALUES(watched),
                        purge_address = VALUES(purge_address);

-- name: own_files()
SELECT o.*, s.name AS site_name FROM own_files o JOIN sites s ON s.id = o.site_id ORDER BY o.id;

-- name: add_own(account_id, site_id, here, there, path_hash, content, sends)!
INSERT INTO own_files (account_id, site_id, here, there, path_hash, content, sends)
VALUES (%(account_id)s, %(site_id)s, %(here)s, %(there)s, %(path_hash)s, %(content)s, %(sends)s)
ON DUPLICATE KEY UPDATE content = VALUES(content), sends = VALUES(sends), saved_at = NULL, trouble = '';

-- name: set_own(id, content, sends, saved_at, trouble)!
UPDATE own_files SET content = %(content)s, sends = %(sends)s, saved_at = %(saved_at)s, trouble = %(trouble)s WHERE id = %(id)s;

-- name: remove_own(id)!
DELETE FROM own_files WHERE id = %(id)s;
