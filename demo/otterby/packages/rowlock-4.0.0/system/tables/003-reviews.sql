ALTER TABLE notices ADD COLUMN reviewed TEXT NOT NULL DEFAULT '';
UPDATE settings SET value = 'Otterby Ferry (under review)' WHERE name = 'site_name';
UPDATE reviews SET open = 1;
