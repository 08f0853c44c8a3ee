-- By which ways people are told, of what, and what they are to be told: matters are written with
-- what they are of in one transaction, messages when it is known whom they are for.
CREATE TABLE IF NOT EXISTS channels (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  type VARCHAR(20) NOT NULL,
  settings TEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY channel_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS rules (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  body TEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY rule_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS matters (
  id BINARY(16) NOT NULL PRIMARY KEY,
  subject BINARY(16) NOT NULL,
  path_id BINARY(16) NULL,
  what VARCHAR(12) NOT NULL,
  at DATETIME(6) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  KEY matter_made (made_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS messages (
  id BINARY(16) NOT NULL PRIMARY KEY,
  rule_id BINARY(16) NOT NULL,
  channel_id BINARY(16) NOT NULL,
  subject BINARY(16) NOT NULL,
  turn INT NOT NULL,
  what VARCHAR(12) NOT NULL,
  at DATETIME(6) NOT NULL,
  due_at DATETIME(6) NOT NULL,
  state VARCHAR(10) NOT NULL,
  tries INT NOT NULL DEFAULT 0,
  error VARCHAR(500) NOT NULL DEFAULT '',
  title VARCHAR(500) NOT NULL,
  body MEDIUMTEXT NOT NULL,
  ended_at DATETIME(6) NULL,
  KEY message_due (state, due_at),
  KEY message_subject (subject, rule_id),
  KEY message_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
