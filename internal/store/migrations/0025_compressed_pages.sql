-- Pages of minutes are packed as they are written, and files have holes where they became smaller. What
-- stands is packed as it is written anew; where a file system has no holes, nothing changes.
ALTER TABLE readings PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3, ALGORITHM=INSTANT;
