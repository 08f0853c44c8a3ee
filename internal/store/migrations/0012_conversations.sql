-- Whom programs talk to, for as long as that was measured.
CREATE TABLE IF NOT EXISTS conversations (
  id BINARY(16) NOT NULL PRIMARY KEY,
  watch_id BINARY(16) NOT NULL,
  agent_id BINARY(16) NOT NULL,
  path_id BINARY(16) NULL,
  run_id BINARY(16) NULL,
  program VARCHAR(64) NOT NULL,
  protocol VARCHAR(4) NOT NULL,
  server VARCHAR(64) NOT NULL,
  port SMALLINT UNSIGNED NOT NULL,
  began_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL,
  ended_at DATETIME(6) NULL,
  says VARCHAR(500) NOT NULL DEFAULT '',
  KEY conversation_began (began_at),
  KEY conversation_ended (ended_at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

ALTER TABLE evidence ADD INDEX IF NOT EXISTS evidence_path (path_id, at);
