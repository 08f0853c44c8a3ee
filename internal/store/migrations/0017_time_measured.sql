-- For how long of a rollup something was measured, and for how long of that something answered:
-- not known of those from before.
ALTER TABLE rollups ADD COLUMN IF NOT EXISTS measured_ms INT NULL;

ALTER TABLE rollups ADD COLUMN IF NOT EXISTS answering_ms INT NULL;
