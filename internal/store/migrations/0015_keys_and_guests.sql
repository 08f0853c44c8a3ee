-- The key by which what is handed on is signed; and links by which somebody outside sees one
-- thing, with who opened them when.
CREATE TABLE IF NOT EXISTS signing_keys (
  name VARCHAR(20) NOT NULL PRIMARY KEY,
  seed BINARY(32) NOT NULL,
  made_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS guest_links (
  id BINARY(16) NOT NULL PRIMARY KEY,
  secret_hash BINARY(32) NOT NULL,
  title VARCHAR(200) NOT NULL,
  notes TEXT NOT NULL,
  what VARCHAR(20) NOT NULL,
  subject TEXT NOT NULL,
  from_at DATETIME(6) NULL,
  to_at DATETIME(6) NULL,
  frozen MEDIUMBLOB NULL,
  passphrase VARCHAR(200) NOT NULL DEFAULT '',
  made_by VARCHAR(100) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  ends_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  UNIQUE KEY guest_secret (secret_hash)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS guest_openings (
  id BINARY(16) NOT NULL PRIMARY KEY,
  link_id BINARY(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  address VARCHAR(64) NOT NULL,
  outcome VARCHAR(20) NOT NULL,
  KEY guest_opening (link_id, at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
