ALTER TABLE agents
  ADD COLUMN IF NOT EXISTS labels VARCHAR(500) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS key_hash BINARY(32) NULL,
  ADD COLUMN IF NOT EXISTS health TEXT NULL,
  ADD KEY IF NOT EXISTS agent_key (key_hash);

CREATE TABLE IF NOT EXISTS invites (
  id BINARY(16) NOT NULL PRIMARY KEY,
  code_hash BINARY(32) NOT NULL,
  name VARCHAR(100) NOT NULL DEFAULT '',
  site VARCHAR(100) NOT NULL DEFAULT '',
  labels VARCHAR(500) NOT NULL DEFAULT '',
  created_at DATETIME(6) NOT NULL,
  ends_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  UNIQUE KEY invite_code (code_hash)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS two_ended (
  id BINARY(16) NOT NULL PRIMARY KEY,
  watch_id BINARY(16) NULL,
  agent_id BINARY(16) NOT NULL,
  far_id BINARY(16) NULL,
  target VARCHAR(253) NOT NULL,
  kind VARCHAR(20) NOT NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  outcome VARCHAR(20) NOT NULL,
  reason VARCHAR(500) NOT NULL DEFAULT '',
  there_bps DOUBLE NULL,
  back_bps DOUBLE NULL,
  mos DOUBLE NULL,
  sent_bytes BIGINT NOT NULL DEFAULT 0,
  body MEDIUMBLOB NULL,
  KEY two_ended_started (started_at),
  KEY two_ended_agent (agent_id, started_at),
  KEY two_ended_target (target, kind, started_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
