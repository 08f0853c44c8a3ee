-- What browsers measured that came by a guest link.
CREATE TABLE IF NOT EXISTS visits (
  id BINARY(16) NOT NULL PRIMARY KEY,
  link_id BINARY(16) NOT NULL,
  title VARCHAR(200) NOT NULL,
  started_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NOT NULL,
  address VARCHAR(64) NOT NULL,
  outcome VARCHAR(20) NOT NULL,
  need VARCHAR(100) NOT NULL,
  seats INT NOT NULL,
  answer VARCHAR(20) NOT NULL,
  sentence VARCHAR(1000) NOT NULL,
  words VARCHAR(2000) NOT NULL,
  body MEDIUMBLOB NOT NULL,
  KEY visit_at (started_at),
  KEY visit_of (link_id, started_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
