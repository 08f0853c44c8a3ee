-- A watch of twenty thousand targets is some hundred thousand bytes, and twice as much where it
-- is noted how it was before.
ALTER TABLE watches MODIFY COLUMN spec MEDIUMTEXT NOT NULL;
ALTER TABLE changes MODIFY COLUMN detail MEDIUMTEXT NOT NULL;
ALTER TABLE sweeps MODIFY COLUMN prefixes MEDIUMTEXT NOT NULL;
