-- Pages of minutes and of what is rolled up are packed as they are written, and files have holes where
-- they became smaller; where a file system has no holes, nothing changes. This holds for files that are
-- made from now on: of minutes those of days to come; of what is rolled up that which is empty now, or
-- is made anew by hand (docs/size.md): of a large one that would take long.
-- A server that has to write a table anew for it (MariaDB 10.11.18) does so with what is small; a large
-- one stays as it is, which is told at each start.
BEGIN NOT ATOMIC DECLARE CONTINUE HANDLER FOR 1845, 1846 BEGIN IF (SELECT data_length FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'readings') < 268435456 THEN ALTER TABLE readings PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3; END IF; END; ALTER TABLE readings PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3, ALGORITHM=INSTANT; END;
BEGIN NOT ATOMIC DECLARE CONTINUE HANDLER FOR 1845, 1846 BEGIN IF (SELECT data_length FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'rollups') < 268435456 THEN ALTER TABLE rollups PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3; END IF; END; ALTER TABLE rollups PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3, ALGORITHM=INSTANT; END;
BEGIN NOT ATOMIC IF NOT EXISTS (SELECT 1 FROM rollups) THEN ALTER TABLE rollups FORCE; END IF; END;
