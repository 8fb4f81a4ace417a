-- One name for one thing, in what is stored: a copy is verified, and what a job and its items do is called a transfer.
UPDATE proved_copies SET state = 'verified' WHERE state = 'proved';
UPDATE jobs SET kind = 'transfer' WHERE kind = 'carry';
UPDATE items SET action = 'transfer' WHERE action = 'carry';
