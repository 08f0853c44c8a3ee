-- Whom a provider elsewhere says somebody is (OpenID Connect): its issuer and its subject.
ALTER TABLE people ADD COLUMN IF NOT EXISTS elsewhere VARCHAR(500) NOT NULL DEFAULT '';

-- Passkeys (WebAuthn): what is kept of each lets nobody in by itself.
CREATE TABLE IF NOT EXISTS passkeys (
  id BINARY(16) NOT NULL PRIMARY KEY,
  person_id BINARY(16) NOT NULL,
  title VARCHAR(200) NOT NULL,
  host VARCHAR(255) NOT NULL,
  body MEDIUMTEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  KEY passkey_of (person_id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
