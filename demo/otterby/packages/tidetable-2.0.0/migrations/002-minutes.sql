ALTER TABLE sailings ADD COLUMN minutes INTEGER NOT NULL DEFAULT 4;
ALTER TABLE sailings RENAME COLUMN departs TO departs_at;
UPDATE sailings SET note = '' WHERE note IS NULL;
