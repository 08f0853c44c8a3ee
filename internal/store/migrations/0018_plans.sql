-- Measurements that are kept under a name, to be made again unchanged: a kind, and what it is told.
CREATE TABLE IF NOT EXISTS plans (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  kind VARCHAR(30) NOT NULL,
  version INT NOT NULL,
  spec MEDIUMTEXT NOT NULL,
  revision INT NOT NULL,
  changed_by VARCHAR(120) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY plan_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
