-- One name for one thing, in the tables, too: permissions (of a file), scan (of a site), verified copy, restore test, transfer.
RENAME TABLE IF EXISTS site_readings TO site_scans;
RENAME TABLE IF EXISTS reading_times TO scan_times;
RENAME TABLE IF EXISTS proved_copies TO verified_copies;
ALTER TABLE verified_copies CHANGE COLUMN IF EXISTS rehearsed_at restore_tested_at DATETIME(6) NULL;
ALTER TABLE verified_copies CHANGE COLUMN IF EXISTS rehearsal restore_test VARCHAR(300) NOT NULL DEFAULT '';
ALTER TABLE parts CHANGE COLUMN IF EXISTS carried_bytes transferred_bytes BIGINT UNSIGNED NOT NULL DEFAULT 0;
ALTER TABLE items CHANGE COLUMN IF EXISTS access permissions SMALLINT UNSIGNED NULL;
ALTER TABLE items CHANGE COLUMN IF EXISTS seen_access seen_permissions SMALLINT UNSIGNED NULL;
ALTER TABLE changes CHANGE COLUMN IF EXISTS before_access before_permissions SMALLINT UNSIGNED NULL;
ALTER TABLE changes CHANGE COLUMN IF EXISTS after_access after_permissions SMALLINT UNSIGNED NULL;
ALTER TABLE sites CHANGE COLUMN IF EXISTS file_access file_permissions INT UNSIGNED NULL;
ALTER TABLE sites CHANGE COLUMN IF EXISTS folder_access folder_permissions INT UNSIGNED NULL;

UPDATE site_scans SET state = 'scanning' WHERE state = 'reading';
UPDATE jobs SET kind = 'permissions' WHERE kind = 'access';
UPDATE items SET action = 'set-permissions' WHERE action = 'set-access';
UPDATE changes SET what = 'permissions-set' WHERE what = 'access-set';
UPDATE grants SET rights = TRIM(BOTH ',' FROM REPLACE(CONCAT(',', rights, ','), ',access,', ',permissions,'));
UPDATE tokens SET rights = TRIM(BOTH ',' FROM REPLACE(CONCAT(',', rights, ','), ',access,', ',permissions,'));
UPDATE invitations SET grants = REPLACE(grants, '"access"', '"permissions"');
UPDATE accounts SET preferences = REPLACE(preferences, '"access"', '"permissions"') WHERE preferences IS NOT NULL;
UPDATE sites SET learned = REPLACE(learned, '"access":', '"permissions":') WHERE learned IS NOT NULL;
