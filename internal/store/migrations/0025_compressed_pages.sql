-- Pages of minutes and of what is rolled up are packed as they are written, and files have holes where
-- they became smaller; where a file system has no holes, nothing changes. This holds for files that are
-- made from now on: of minutes those of days to come; of what is rolled up that which is empty now, or
-- is made anew by hand (docs/size.md): of a large one that would take long.
ALTER TABLE readings PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3, ALGORITHM=INSTANT;
ALTER TABLE rollups PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3, ALGORITHM=INSTANT;
BEGIN NOT ATOMIC IF NOT EXISTS (SELECT 1 FROM rollups) THEN ALTER TABLE rollups FORCE; END IF; END;
