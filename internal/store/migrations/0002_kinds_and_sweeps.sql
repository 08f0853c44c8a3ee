ALTER TABLE paths ADD COLUMN IF NOT EXISTS via VARCHAR(20) NOT NULL DEFAULT 'icmp' AFTER family;

ALTER TABLE paths DROP INDEX IF EXISTS path_ends;

ALTER TABLE paths ADD UNIQUE INDEX IF NOT EXISTS path_ends_by (agent_id, target, family, via);

ALTER TABLE readings ADD COLUMN IF NOT EXISTS reordered INT NULL, ADD COLUMN IF NOT EXISTS damaged INT NULL;

CREATE TABLE IF NOT EXISTS sweeps (
  id BINARY(16) NOT NULL PRIMARY KEY,
  watch_id BINARY(16) NULL,
  agent_id BINARY(16) NOT NULL,
  scope BINARY(32) NOT NULL,
  prefixes TEXT NOT NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  outcome VARCHAR(20) NOT NULL,
  reason VARCHAR(500) NOT NULL DEFAULT '',
  addresses BIGINT NOT NULL DEFAULT 0,
  answered BIGINT NOT NULL DEFAULT 0,
  body MEDIUMBLOB NULL,
  KEY sweep_scope (agent_id, scope, started_at),
  KEY sweep_started (started_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
