-- Runs of every kind, each with what it found.
ALTER TABLE runs
  MODIFY path_id BINARY(16) NULL,
  ADD COLUMN IF NOT EXISTS kind VARCHAR(32) NOT NULL DEFAULT 'ping' AFTER id,
  ADD COLUMN IF NOT EXISTS version INT NOT NULL DEFAULT 1 AFTER kind,
  ADD COLUMN IF NOT EXISTS agent_id BINARY(16) NULL AFTER path_id,
  ADD COLUMN IF NOT EXISTS far_id BINARY(16) NULL AFTER agent_id,
  ADD COLUMN IF NOT EXISTS target VARCHAR(253) NOT NULL DEFAULT '' AFTER far_id,
  ADD COLUMN IF NOT EXISTS family TINYINT NOT NULL DEFAULT 0 AFTER target,
  ADD COLUMN IF NOT EXISTS via VARCHAR(20) NOT NULL DEFAULT '' AFTER family,
  ADD COLUMN IF NOT EXISTS there_bps DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS back_bps DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS mos DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS answered BIGINT NULL,
  ADD COLUMN IF NOT EXISTS asked BIGINT NULL,
  ADD COLUMN IF NOT EXISTS sent_bytes BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS body MEDIUMBLOB NULL,
  ADD KEY IF NOT EXISTS run_kind (kind, started_at),
  ADD KEY IF NOT EXISTS run_agent (agent_id, started_at),
  ADD KEY IF NOT EXISTS run_watch (watch_id, started_at);

UPDATE runs JOIN paths ON paths.id = runs.path_id
  SET runs.agent_id = paths.agent_id, runs.target = paths.target, runs.family = paths.family, runs.via = paths.via
  WHERE runs.agent_id IS NULL;

INSERT IGNORE INTO runs (id, kind, watch_id, agent_id, started_at, ended_at, outcome, reason, answered, asked)
  SELECT id, 'sweep', watch_id, agent_id, started_at, ended_at, outcome, reason, answered, addresses FROM sweeps;

INSERT IGNORE INTO runs (id, kind, watch_id, agent_id, target, family, via, started_at, ended_at, outcome, reason)
  SELECT id, 'trace', watch_id, agent_id, target, family, via, started_at, ended_at, outcome, reason FROM traces;

INSERT IGNORE INTO runs (id, kind, watch_id, agent_id, far_id, target, started_at, ended_at, outcome, reason, there_bps, back_bps, mos, sent_bytes)
  SELECT id, kind, watch_id, agent_id, far_id, target, started_at, ended_at, outcome, reason, there_bps, back_bps, mos, sent_bytes FROM two_ended;
