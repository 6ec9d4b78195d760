package database

import "wetland/internal/testenv"

// difficult is a schema with what makes copies of databases go wrong.
const difficult = `
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
CREATE TABLE kinds (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  tiny TINYINT, small SMALLINT UNSIGNED, medium MEDIUMINT, big BIGINT, money DECIMAL(20,6), f FLOAT, d DOUBLE,
  b1 BIT(1), b13 BIT(13), day DATE, at DATETIME(6), stamp TIMESTAMP(3) NULL, clock TIME(2), y YEAR,
  c CHAR(10), v VARCHAR(100) CHARACTER SET utf8mb4, l VARCHAR(100) CHARACTER SET latin1, bin BINARY(4), vb VARBINARY(20),
  t TEXT, blb LONGBLOB, e ENUM('one','zwölf','it''s') CHARACTER SET utf8mb4, s SET('a','b','c'), j JSON, g GEOMETRY,
  twice DOUBLE AS (d * 0.25) VIRTUAL, thrice DOUBLE AS (d * 0.5) STORED,
  KEY by_v (v(20)), UNIQUE KEY by_big (big)
) ENGINE=InnoDB COMMENT='it''s \\ "difficult" – änd';
INSERT INTO kinds (id, tiny, small, medium, big, money, f, d, b1, b13, day, at, stamp, clock, y, c, v, l, bin, vb, t, blb, e, s, j, g) VALUES
 (0, -128, 65535, -8388608, -9223372036854775808, -12345678901234.567891, 16777217, 0.1, b'1', b'1010101010101', '0000-00-00', '0000-00-00 00:00:00', '1970-01-01 00:00:01.001', '-838:59:59.00', 1901, 'x  ', 'Fähre ⛴ ''"\\ ', 'Fähre', x'00ff0100', x'', '', x'0001ff5c270a0d1a', 'zwölf', 'a,c', '{"a": [1, 2.50]}', ST_GeomFromText('POINT(1.5 -2.25)')),
 (1, 0, 0, 0, 0, 0, 1.1, 1e-308, b'0', b'0', '2026-02-31', '2026-11-23 10:11:12.123456', NULL, '00:00:00', 0, '', '', '', x'00000000', x'00', NULL, '', 'it''s', '', 'null', NULL),
 (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (7, 1, 1, 1, 9223372036854775807, 0.000001, 3.4028235e38, 1.7976931348623157e308, b'1', b'1', '9999-12-31', '9999-12-31 23:59:59.999999', '2038-01-19 03:14:07.999', '838:59:59', 2155, 'é', REPEAT('⛴', 100), 'ÿ', x'ffffffff', x'5c', 'a\nb\r\n\tc\0d', REPEAT(x'00', 3000), 'one', 'a,b,c', '[]', ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))'));
ALTER TABLE kinds AUTO_INCREMENT = 4711;
CREATE TABLE no_key (a INT, b VARCHAR(10)) ENGINE=InnoDB;
INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL), (2, '');
CREATE TABLE old_engine (a INT PRIMARY KEY, b TEXT) ENGINE=MyISAM;
INSERT INTO old_engine VALUES (1, 'one'), (2, NULL);
CREATE TABLE collations (a VARCHAR(20), b TEXT COLLATE utf8mb4_unicode_520_ci, c ENUM('x COLLATE y', 'it''s') NOT NULL DEFAULT 'it''s' COMMENT 'z COLLATE utf8mb4_unicode_520_ci', d CHAR(3) COLLATE utf8mb4_bin, e VARCHAR(9) CHARACTER SET latin1, f TEXT CHARACTER SET utf8mb4) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_520_ci;
INSERT INTO collations VALUES ('a', 'b', 'it''s', 'd', 'é', 'f');
CREATE TABLE checked (a INT, b INT CHECK (b > 0), CONSTRAINT checked_chk_own CHECK (a > 0), CONSTRAINT anything CHECK (a < 9));
INSERT INTO checked VALUES (1, 2);
CREATE TABLE boats (id INT PRIMARY KEY, name VARCHAR(20)) ENGINE=InnoDB;
INSERT INTO boats VALUES (1, 'Wagtail'), (2, 'Dipper');
CREATE TABLE crossings (id INT AUTO_INCREMENT PRIMARY KEY, boat INT NOT NULL, before_that INT, people INT DEFAULT 0,
  CONSTRAINT crossing_boat FOREIGN KEY (boat) REFERENCES boats (id) ON DELETE CASCADE,
  CONSTRAINT crossing_before FOREIGN KEY (before_that) REFERENCES crossings (id)) ENGINE=InnoDB;
INSERT INTO crossings VALUES (1, 1, NULL, 4), (2, 2, 1, 7), (3, 1, 2, 0);
CREATE TABLE counted (boat INT PRIMARY KEY, people INT);
CREATE TRIGGER count_people AFTER INSERT ON crossings FOR EACH ROW INSERT INTO counted VALUES (NEW.boat, NEW.people) ON DUPLICATE KEY UPDATE people = counted.people + NEW.people;
CREATE VIEW a_view_of_views AS SELECT 1 AS nothing;
CREATE VIEW busy AS SELECT boat, SUM(people) AS people FROM crossings GROUP BY boat;
CREATE OR REPLACE VIEW a_view_of_views AS SELECT b.name, busy.people FROM busy JOIN boats b ON b.id = busy.boat;
CREATE TABLE ` + "`with ``quotes`` and 'more'`" + ` (` + "`a ``b`" + ` INT PRIMARY KEY);
INSERT INTO ` + "`with ``quotes`` and 'more'`" + ` VALUES (1);
CREATE TABLE other_site (a INT);
INSERT INTO other_site VALUES (1);
`

// difficultOn is the schema with what only this kind of server has.
func difficultOn(kind testenv.Kind) string {
	switch kind {
	case testenv.MySQL:
		return difficult + difficultMySQL
	case testenv.NewerMariaDB:
		return difficult + difficultMariaDB + difficultNewerMariaDB
	}
	return difficult + difficultMariaDB
}

// besideOn is what may be kept beside tables, on this kind of server.
func besideOn(kind testenv.Kind) string {
	if kind.IsMySQL() {
		return besideMySQL
	}
	return besideMariaDB
}

const difficultMySQL = `
CREATE TABLE documents (id INT PRIMARY KEY, j JSON, tags JSON, KEY many ((CAST(tags->'$' AS UNSIGNED ARRAY)))) ENGINE=InnoDB;
INSERT INTO documents VALUES
 (1, JSON_OBJECT('price', CAST(2.50 AS DECIMAL(6,2)), 'long', CAST('123456789012345678901234567890' AS DECIMAL(30,0)), 'fine', CAST('0.10000000000000000000000001' AS DECIMAL(40,30)), 'nested', JSON_ARRAY(JSON_OBJECT('deep', CAST(-0.00 AS DECIMAL(3,2))))), '[3, 1, 2]'),
 (2, '{"z": 1, "a": {"b": 1.0, "c": 1e308, "d": -0.0, "ää": "⛴ \\\\ \\" \\n \\u0000"}, "": null, "yes": true}', '[]'),
 (3, 'null', NULL), (4, NULL, '[18446744073709551615]'), (5, '18446744073709551615', NULL), (6, '-9223372036854775808', NULL), (7, '"2.50"', NULL), (8, '0.1', NULL), (9, '[1, 2.50, 3.0, 100000000000000000000]', NULL), (10, CAST(CAST('7.00' AS DECIMAL(5,2)) AS JSON), NULL);
CREATE TABLE modern (
  id INT NOT NULL AUTO_INCREMENT, name VARCHAR(60) COLLATE utf8mb4_0900_as_cs NOT NULL DEFAULT (CONCAT('a', 'b')), n INT DEFAULT (1 + 2), made DATETIME(3) DEFAULT CURRENT_TIMESTAMP(3) ON UPDATE CURRENT_TIMESTAMP(3),
  secret INT INVISIBLE DEFAULT 5, at POINT NOT NULL SRID 4326, v VECTOR(3), stamp TIMESTAMP NOT NULL, other TIMESTAMP NULL,
  PRIMARY KEY (id DESC), KEY lowered ((LOWER(name)), n DESC), KEY hidden (n) INVISIBLE, SPATIAL KEY (at), FULLTEXT KEY words (name),
  CHECK (n > 0), CONSTRAINT modest CHECK (n < 1000) NOT ENFORCED, CONSTRAINT another_name CHECK (name <> 'x')
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci STATS_PERSISTENT=1;
INSERT INTO modern (name, n, secret, at, v, stamp, other) VALUES ('Straße', 3, 7, ST_GeomFromText('POINT(51.5 -0.12)', 4326), STRING_TO_VECTOR('[1, 2.5, -0.1]'), '2026-01-01', NULL), ('É', 1, NULL, ST_GeomFromText('POINT(-89 179)', 4326), NULL, '1970-01-01 00:00:01', '2038-01-19 03:14:07');
INSERT INTO modern (at, stamp) VALUES (ST_GeomFromText('POINT(0 0)', 4326), '2026-01-02');
ANALYZE TABLE modern UPDATE HISTOGRAM ON n WITH 7 BUCKETS;
SET SESSION sql_generate_invisible_primary_key = 1;
CREATE TABLE keyless (a INT, b TEXT);
SET SESSION sql_generate_invisible_primary_key = 0;
INSERT INTO keyless (a, b) VALUES (1, 'x'), (1, 'x');
`

// difficultMariaDB are tables that keep rows of the past.
const difficultMariaDB = `
CREATE TABLE fares (id INT PRIMARY KEY, fare DECIMAL(6,2), note VARCHAR(20) UNIQUE, KEY (fare)) WITH SYSTEM VERSIONING;
INSERT INTO fares VALUES (1, 2.50, 'single'), (2, 4.00, 'return'), (3, 1.00, 'dog');
UPDATE fares SET fare = fare + 0.10; UPDATE fares SET note = 'both ways' WHERE id = 2; DELETE FROM fares WHERE id = 3;
CREATE TABLE berths (n INT, boat INT WITHOUT SYSTEM VERSIONING, since TIMESTAMP(6) GENERATED ALWAYS AS ROW START INVISIBLE, ` + "`un``til`" + ` TIMESTAMP(6) GENERATED ALWAYS AS ROW END, twice INT AS (n * 2) STORED, PERIOD FOR SYSTEM_TIME (since, ` + "`un``til`" + `)) WITH SYSTEM VERSIONING PARTITION BY SYSTEM_TIME (PARTITION past HISTORY, PARTITION present CURRENT);
INSERT INTO berths (n, boat) VALUES (1, 1), (2, NULL); UPDATE berths SET n = n + 10; UPDATE berths SET boat = 5; DELETE FROM berths WHERE n = 12;
`

const difficultNewerMariaDB = `
CREATE TABLE modern (id UUID PRIMARY KEY DEFAULT UUID(), six INET6, four INET4, v VECTOR(3) NOT NULL, n INT CHECK (n > 0), j JSON, VECTOR INDEX (v), CONSTRAINT modest CHECK (n < 1000));
INSERT INTO modern (id, six, four, v, n, j) VALUES ('6ccd780c-baba-1026-9564-5b8c656024db', '2001:db8::ff00:42:8329', '192.0.2.1', Vec_FromText('[1, 2.5, -0.1]'), 5, '{"b": 2.50,  "a":1}'), (UUID_v7(), '::', '0.0.0.0', Vec_FromText('[0, 0, 0]'), NULL, NULL), ('61616161-6161-1161-8161-616161616161', '::ffff:192.0.2.1', '255.255.255.255', Vec_FromText('[1, 1, 1]'), 1, '[]');
`

// besideAll is a table in parts, with settings of its own for what follows; programsOfNobody act
// in the name of somebody who does not exist.
const (
	besideAll = `
SET SESSION sql_mode = 'STRICT_ALL_TABLES,PIPES_AS_CONCAT', collation_connection = 'latin1_german1_ci', time_zone = '+02:00';
CREATE TABLE sailings (id INT, at DATE, boat VARCHAR(20), PRIMARY KEY (id, at), KEY (boat)) PARTITION BY RANGE (YEAR(at)) (PARTITION early VALUES LESS THAN (2020), PARTITION late VALUES LESS THAN MAXVALUE);
INSERT INTO sailings VALUES (1, '2019-05-01', 'Otter'), (2, '2026-05-01', 'Heron');
`
	programsOfNobody = `
CREATE DEFINER=nobody@nowhere PROCEDURE count_boats(IN least INT) COMMENT 'ä' SELECT COUNT(*) FROM sailings WHERE id >= least;
CREATE DEFINER=nobody@nowhere FUNCTION greet(who VARCHAR(20)) RETURNS VARCHAR(40) DETERMINISTIC RETURN 'Ahoi, ' || who;
CREATE DEFINER=nobody@nowhere EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2026-12-01 03:00:00' DISABLE COMMENT 'fog' DO DELETE FROM log;
CREATE DEFINER=nobody@nowhere TRIGGER strict_one BEFORE INSERT ON log FOR EACH ROW SET NEW.word = NEW.word || '!';
CREATE DEFINER=nobody@nowhere SQL SECURITY INVOKER VIEW late_ones AS SELECT * FROM sailings WHERE at > '2020-01-01';
`
)

// besideMariaDB is what a site may keep beside its tables, and tables of other forms.
// Everything has settings of its own, and acts in the name of somebody who does not exist.
const besideMariaDB = besideAll + `CREATE TABLE log (n INT AUTO_INCREMENT, word TEXT, FULLTEXT KEY words (word), KEY (n)) ENGINE=Aria;
INSERT INTO log (word) VALUES ('fog'), ('wind');
CREATE TABLE places (id INT PRIMARY KEY, at POINT NOT NULL, SPATIAL KEY (at), extra INT INVISIBLE DEFAULT 4, CHECK (id > 0)) ENGINE=InnoDB;
INSERT INTO places (id, at, extra) VALUES (1, ST_GeomFromText('POINT(1 2)'), 9);
CREATE SEQUENCE tickets START WITH 100 INCREMENT BY 5 CACHE 10 CYCLE MAXVALUE 200;
DO NEXTVAL(tickets); DO NEXTVAL(tickets);
` + programsOfNobody

const besideMySQL = besideAll + `CREATE TABLE log (n INT AUTO_INCREMENT, word TEXT, FULLTEXT KEY words (word), KEY (n)) ENGINE=MyISAM;
INSERT INTO log (word) VALUES ('fog'), ('wind');
CREATE TABLE places (id INT PRIMARY KEY, at POINT NOT NULL SRID 0, SPATIAL KEY (at), extra INT INVISIBLE DEFAULT 4, CHECK (id > 0)) ENGINE=InnoDB;
INSERT INTO places (id, at, extra) VALUES (1, ST_GeomFromText('POINT(1 2)'), 9);
` + programsOfNobody
