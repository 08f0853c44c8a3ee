ALTER TABLE episodes ADD COLUMN IF NOT EXISTS body MEDIUMTEXT NULL;

CREATE TABLE IF NOT EXISTS incidents (
  id BINARY(16) NOT NULL PRIMARY KEY,
  from_at DATETIME(6) NOT NULL,
  told_at DATETIME(6) NOT NULL,
  to_at DATETIME(6) NULL,
  body MEDIUMTEXT NOT NULL,
  KEY incident_from (from_at),
  KEY incident_to (to_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS figures (
  path_id BINARY(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  measure VARCHAR(20) NOT NULL,
  span_ms BIGINT NOT NULL,
  value DOUBLE NOT NULL,
  sent INT NOT NULL,
  PRIMARY KEY (path_id, at, measure),
  KEY figure_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
