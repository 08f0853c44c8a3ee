-- Services that share the database. The same is made before the schema is brought forward, by whoever
-- takes hold of the database or looks out at it; see hold.go and together.go.
CREATE TABLE IF NOT EXISTS services (
  owner BINARY(16) NOT NULL PRIMARY KEY,
  says VARCHAR(300) NOT NULL,
  address VARCHAR(300) NOT NULL,
  pin VARCHAR(100) NOT NULL,
  version VARCHAR(100) NOT NULL,
  token_mark VARBINARY(32) NOT NULL,
  began_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
ALTER TABLE leases
  ADD COLUMN IF NOT EXISTS address VARCHAR(300) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS pin VARCHAR(100) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS secret VARBINARY(32) NOT NULL DEFAULT '';
