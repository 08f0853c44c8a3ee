ALTER TABLE runs
  ADD KEY IF NOT EXISTS run_outcome (outcome, started_at, id),
  ADD KEY IF NOT EXISTS run_watch (watch_id, started_at, id);

ALTER TABLE two_ended ADD KEY IF NOT EXISTS two_ended_watch (watch_id, started_at);

ALTER TABLE sweeps ADD KEY IF NOT EXISTS sweep_watch (watch_id, started_at);

ALTER TABLE episodes ADD KEY IF NOT EXISTS episode_to (to_at);

ALTER TABLE invites ADD KEY IF NOT EXISTS invite_ends (ends_at);

CREATE TABLE IF NOT EXISTS leases (
  name VARCHAR(40) NOT NULL PRIMARY KEY,
  owner BINARY(16) NOT NULL,
  process BINARY(16) NOT NULL,
  holder VARCHAR(300) NOT NULL,
  epoch BIGINT NOT NULL,
  since_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS changes (
  id BINARY(16) NOT NULL PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  who VARCHAR(120) NOT NULL,
  what VARCHAR(40) NOT NULL,
  name VARCHAR(253) NOT NULL,
  detail TEXT NOT NULL,
  KEY change_at (at, id)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
