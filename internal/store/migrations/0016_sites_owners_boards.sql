-- Where sites are and what stands at them; who has which prefixes; and pages of one's own, two of
-- which are ready-made.
CREATE TABLE IF NOT EXISTS sites (
  name VARCHAR(100) NOT NULL PRIMARY KEY,
  lat DOUBLE NULL,
  lon DOUBLE NULL,
  targets MEDIUMTEXT NOT NULL,
  note VARCHAR(500) NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS owners (
  prefix VARCHAR(50) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  kind VARCHAR(20) NOT NULL,
  changed_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

CREATE TABLE IF NOT EXISTS boards (
  id BINARY(16) NOT NULL PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  body MEDIUMTEXT NOT NULL,
  revision INT NOT NULL,
  changed_by VARCHAR(120) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY board_name (name)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

INSERT IGNORE INTO boards VALUES (UNHEX('0000000000000000000000000000B001'), 'Sites', '{"parts":[{"kind":"map","width":8,"height":4},{"kind":"states","width":4,"height":1},{"kind":"worst","width":4,"height":3,"most":8},{"kind":"incidents","width":12,"height":1}]}', 1, 'Woodlark', UTC_TIMESTAMP(6));

INSERT IGNORE INTO boards VALUES (UNHEX('0000000000000000000000000000B002'), 'Voice', '{"parts":[{"kind":"voice","width":8,"height":3,"most":15},{"kind":"states","width":4,"height":1},{"kind":"trend","width":4,"height":2,"measure":"mos","last":"24h"},{"kind":"matrix","width":12,"height":2,"measure":"mos"}]}', 1, 'Woodlark', UTC_TIMESTAMP(6));
