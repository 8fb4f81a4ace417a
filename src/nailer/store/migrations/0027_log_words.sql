-- What the activity log calls things, in the words of today.
UPDATE log_entries SET kind = 'failed to sign in' WHERE kind = 'was refused';
UPDATE log_entries SET kind = 'trusted a server identity' WHERE kind = 'trusted an identity';
UPDATE log_entries SET kind = 'other' WHERE kind = 'did';
UPDATE log_entries SET person = 'Nailer' WHERE person = 'Nailer itself';
