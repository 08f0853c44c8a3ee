-- Versions 1, 7 and 12 had other forms before they were what they are: who began with one of those
-- gets what it lacked. Whoever has it keeps it.
ALTER TABLE runs ADD COLUMN IF NOT EXISTS address VARCHAR(64) NOT NULL DEFAULT '';

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

ALTER TABLE evidence ADD INDEX IF NOT EXISTS evidence_path (path_id, at);
