CREATE TABLE IF NOT EXISTS agents (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  site VARCHAR(100) NOT NULL DEFAULT '',
  kind VARCHAR(20) NOT NULL,
  address VARCHAR(255) NOT NULL DEFAULT '',
  version VARCHAR(40) NOT NULL DEFAULT '',
  created_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NULL,
  UNIQUE KEY agent_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS paths (
  id BINARY(16) NOT NULL PRIMARY KEY,
  agent_id BINARY(16) NOT NULL,
  target VARCHAR(255) NOT NULL,
  family TINYINT NOT NULL,
  site VARCHAR(100) NOT NULL DEFAULT '',
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY path_ends (agent_id, target, family)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS watches (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  paused TINYINT NOT NULL DEFAULT 0,
  spec TEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  updated_at DATETIME(6) NOT NULL,
  UNIQUE KEY watch_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS watch_paths (
  watch_id BINARY(16) NOT NULL,
  path_id BINARY(16) NOT NULL,
  PRIMARY KEY (watch_id, path_id),
  KEY watch_path (path_id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS runs (
  id BINARY(16) NOT NULL PRIMARY KEY,
  watch_id BINARY(16) NULL,
  path_id BINARY(16) NOT NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  address VARCHAR(64) NOT NULL DEFAULT '',
  outcome VARCHAR(20) NOT NULL,
  reason VARCHAR(500) NOT NULL DEFAULT '',
  KEY run_path (path_id, started_at),
  KEY run_started (started_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS readings (
  path_id BINARY(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  run_id BINARY(16) NULL,
  span_ms INT NOT NULL,
  expected INT NOT NULL,
  sent INT NOT NULL,
  answered INT NOT NULL,
  lost INT NOT NULL,
  late INT NOT NULL,
  refused INT NOT NULL,
  unsent INT NOT NULL,
  duplicates INT NOT NULL,
  late_sent INT NOT NULL,
  rtt_min_ns BIGINT NULL,
  rtt_mean_ns BIGINT NULL,
  rtt_median_ns BIGINT NULL,
  rtt_p95_ns BIGINT NULL,
  rtt_p99_ns BIGINT NULL,
  rtt_max_ns BIGINT NULL,
  rtt_sd_ns BIGINT NULL,
  jitter_ns BIGINT NULL,
  jitter_rfc3550_ns BIGINT NULL,
  stamp TINYINT NOT NULL,
  flags TINYINT NOT NULL,
  cause VARCHAR(200) NOT NULL DEFAULT '',
  packed MEDIUMBLOB NOT NULL,
  PRIMARY KEY (path_id, at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin
PARTITION BY RANGE COLUMNS (at) (
  PARTITION beyond VALUES LESS THAN (MAXVALUE)
);

CREATE TABLE IF NOT EXISTS rollups (
  path_id BINARY(16) NOT NULL,
  span_s INT NOT NULL,
  at DATETIME(6) NOT NULL,
  readings INT NOT NULL,
  sent INT NOT NULL,
  answered INT NOT NULL,
  lost INT NOT NULL,
  refused INT NOT NULL,
  rtt_min_ns BIGINT NULL,
  rtt_max_ns BIGINT NULL,
  rtt_sum_ns BIGINT NOT NULL,
  rtt_median_ns BIGINT NULL,
  rtt_p95_ns BIGINT NULL,
  sketch BLOB NOT NULL,
  PRIMARY KEY (path_id, span_s, at),
  KEY rollup_time (span_s, at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS rollups_due (
  span_s INT NOT NULL,
  at DATETIME(6) NOT NULL,
  path_id BINARY(16) NOT NULL,
  PRIMARY KEY (span_s, at, path_id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS episodes (
  id BINARY(16) NOT NULL PRIMARY KEY,
  path_id BINARY(16) NOT NULL,
  kind VARCHAR(20) NOT NULL,
  from_at DATETIME(6) NOT NULL,
  to_at DATETIME(6) NULL,
  excesses TEXT NOT NULL,
  KEY episode_path (path_id, from_at),
  KEY episode_from (from_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS baselines (
  id BINARY(16) NOT NULL PRIMARY KEY,
  path_id BINARY(16) NOT NULL,
  taken_at DATETIME(6) NOT NULL,
  pinned TINYINT NOT NULL DEFAULT 0,
  readings INT NOT NULL,
  body MEDIUMTEXT NOT NULL,
  KEY baseline_path (path_id, taken_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS notices (
  id BINARY(16) NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  kind VARCHAR(40) NOT NULL,
  text VARCHAR(500) NOT NULL,
  KEY notice_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
