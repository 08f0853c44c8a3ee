-- Who may do what, and by which way they come in.
CREATE TABLE IF NOT EXISTS people (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  full_name VARCHAR(200) NOT NULL,
  role VARCHAR(20) NOT NULL,
  scope TEXT NOT NULL,
  password VARCHAR(200) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  created_by VARCHAR(120) NOT NULL,
  seen_at DATETIME(6) NULL,
  ended_at DATETIME(6) NULL,
  UNIQUE KEY person_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- One-time links by which a person says how they come in; of nobody yet, by which the first
-- administrator is made.
CREATE TABLE IF NOT EXISTS welcomes (
  id BINARY(16) NOT NULL PRIMARY KEY,
  mark BINARY(32) NOT NULL,
  person_id BINARY(16) NULL,
  made_at DATETIME(6) NOT NULL,
  made_by VARCHAR(120) NOT NULL,
  ends_at DATETIME(6) NOT NULL,
  UNIQUE KEY welcome_mark (mark)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS person_tokens (
  id BINARY(16) NOT NULL PRIMARY KEY,
  mark BINARY(32) NOT NULL,
  person_id BINARY(16) NOT NULL,
  title VARCHAR(200) NOT NULL,
  role VARCHAR(20) NOT NULL,
  scope TEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  ends_at DATETIME(6) NULL,
  ended_at DATETIME(6) NULL,
  used_at DATETIME(6) NULL,
  used_from VARCHAR(64) NOT NULL,
  UNIQUE KEY token_mark (mark),
  KEY token_of (person_id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS sign_ins (
  id BINARY(16) NOT NULL PRIMARY KEY,
  mark BINARY(32) NOT NULL,
  person_id BINARY(16) NULL,
  key_mark BINARY(32) NULL,
  way VARCHAR(20) NOT NULL,
  began_at DATETIME(6) NOT NULL,
  ends_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL,
  address VARCHAR(64) NOT NULL,
  browser VARCHAR(300) NOT NULL,
  UNIQUE KEY sign_in_mark (mark),
  KEY sign_in_of (person_id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
