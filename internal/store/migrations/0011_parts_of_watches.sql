-- A part of a watch is named after it and its kind.
ALTER TABLE watches MODIFY COLUMN name VARCHAR(160) NOT NULL;
