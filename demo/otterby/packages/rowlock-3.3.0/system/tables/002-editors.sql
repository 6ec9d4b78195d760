CREATE TABLE editors (name TEXT PRIMARY KEY, since TEXT NOT NULL);
INSERT INTO editors VALUES ('keeper', '2026-10-05');
