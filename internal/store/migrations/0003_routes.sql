CREATE TABLE IF NOT EXISTS traces (
  id BINARY(16) NOT NULL PRIMARY KEY,
  lane BINARY(16) NOT NULL,
  watch_id BINARY(16) NULL,
  agent_id BINARY(16) NOT NULL,
  target VARCHAR(253) NOT NULL,
  family TINYINT NOT NULL,
  via VARCHAR(20) NOT NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  outcome VARCHAR(20) NOT NULL,
  reason VARCHAR(500) NOT NULL DEFAULT '',
  reached BOOLEAN NOT NULL DEFAULT FALSE,
  changed BOOLEAN NOT NULL DEFAULT FALSE,
  hops INT NOT NULL DEFAULT 0,
  rtt_ms DOUBLE NULL,
  loss_ratio DOUBLE NULL,
  route BINARY(16) NULL,
  body MEDIUMBLOB NULL,
  KEY trace_lane (lane, started_at),
  KEY trace_target (target, started_at),
  KEY trace_watch (watch_id, started_at),
  KEY trace_started (started_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS routes (
  lane BINARY(16) NOT NULL,
  route BINARY(16) NOT NULL,
  hops TEXT NOT NULL,
  first_at DATETIME(6) NOT NULL,
  last_at DATETIME(6) NOT NULL,
  times BIGINT NOT NULL,
  last_trace BINARY(16) NOT NULL,
  PRIMARY KEY (lane, route),
  KEY route_last (last_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS hop_minutes (
  lane BINARY(16) NOT NULL,
  at DATETIME NOT NULL,
  route BINARY(16) NULL,
  packed BLOB NOT NULL,
  PRIMARY KEY (lane, at),
  KEY hop_minute_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
