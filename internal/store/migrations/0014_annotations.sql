-- What people wrote of a path, or of all, at a time or over a span.
CREATE TABLE IF NOT EXISTS annotations (
  id BINARY(16) NOT NULL PRIMARY KEY,
  path_id BINARY(16) NULL,
  at DATETIME(6) NOT NULL,
  until DATETIME(6) NULL,
  author VARCHAR(100) NOT NULL,
  text TEXT NOT NULL,
  made_at DATETIME(6) NOT NULL,
  KEY annotation_at (at)
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
