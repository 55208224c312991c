CREATE TABLE `Hive Stand` (`the id` BIGINT AUTO_INCREMENT PRIMARY KEY, `select` TEXT, `a-b` INT, `a_b` INT, `a.b` INT, `1st` TEXT, `größe` FLOAT, `type` TEXT, `ID` TEXT, `quote"d` TEXT, `tick``` TEXT, `back\slash` TEXT);
INSERT INTO `Hive Stand` (`1st`, `quote"d`, `tick```) VALUES ('x', 'q', 't');
CREATE TABLE hives (id INT AUTO_INCREMENT PRIMARY KEY);
INSERT INTO hives VALUES (1);
CREATE TABLE hive (id INT PRIMARY KEY, hive INT, hives INT, `where` TEXT, `count` INT, `insert` TEXT, FOREIGN KEY (hive) REFERENCES hives (id), FOREIGN KEY (hives) REFERENCES hive (id));
INSERT INTO hive VALUES (1, 1, 1, 'w', 2, 'i');
CREATE TABLE every_type (id BIGINT UNSIGNED PRIMARY KEY, i1 TINYINT, u1 TINYINT UNSIGNED, i2 SMALLINT, u2 SMALLINT UNSIGNED, i3 MEDIUMINT, i4 INT, u4 INT UNSIGNED, u8 BIGINT UNSIGNED, bo TINYINT(1), f4 FLOAT, f8 DOUBLE,
  n DECIMAL(30,10), n0 DECIMAL(5), bi BIT(3), b1 BIT(1), y YEAR, d DATE, ti TIME, dt DATETIME(6), ts TIMESTAMP NULL, c CHAR(3), v VARCHAR(20), tt TINYTEXT, lt LONGTEXT, bin BINARY(4), vb VARBINARY(4), bl BLOB,
  e ENUM('so so','','it''s fine','1a','SO_SO') COLLATE utf8mb4_bin, s SET('a','b'), j JSON, p POINT, g INT AS (i2 * 2) STORED, secret_token TEXT, i6 INET6, uu UUID);
INSERT INTO every_type (id, i1, u1, i2, u4, u8, bo, f8, n, bi, b1, y, d, ti, dt, ts, c, v, bin, vb, bl, e, s, j, p, i6, uu) VALUES (18446744073709551615, -1, 255, 3, 4294967295, 18446744073709551615, 1, 1.5, 12345678901234567890.5, b'101', b'1', 2026, '2026-05-01', '-100:00:00', '2026-05-01 10:00:00.123456', '2026-05-01 10:00:00',
  'abc', 'v', 'abcd', 'ab', x'00ff', 'it''s fine', 'a,b', '{"a":1}', ST_GeomFromText('POINT(1 2)'), '::1', '6f1c2a34-0000-4000-8000-00000000abcd');
INSERT INTO every_type (id) VALUES (2);
CREATE TABLE part (a INT, b VARCHAR(20), c DATE, PRIMARY KEY (c, a, b));
INSERT INTO part VALUES (1, 'x,y/z', '2026-01-01');
CREATE TABLE part_of (n INT PRIMARY KEY, a INT, b VARCHAR(20), c DATE, FOREIGN KEY (c, a, b) REFERENCES part (c, a, b));
INSERT INTO part_of VALUES (1, 1, 'x,y/z', '2026-01-01');
CREATE TABLE moods (mood ENUM('calm','wild') PRIMARY KEY, note TEXT);
INSERT INTO moods VALUES ('calm', 'n');
CREATE TABLE no_key (note TEXT, noted_at DATETIME DEFAULT CURRENT_TIMESTAMP);
INSERT INTO no_key (note) VALUES ('n');
CREATE TABLE natural_key (code VARCHAR(5) NOT NULL UNIQUE, tail TEXT, UNIQUE KEY t (tail(5)));
INSERT INTO natural_key VALUES ('c', 't');
CREATE TABLE counter (n INT AUTO_INCREMENT, name VARCHAR(10) PRIMARY KEY, KEY (n));
INSERT INTO counter (name) VALUES ('a');
CREATE TABLE queen (hive_id INT PRIMARY KEY, FOREIGN KEY (hive_id) REFERENCES hive (id));
INSERT INTO queen VALUES (1);
CREATE TABLE chicken (id INT PRIMARY KEY, egg_id INT);
CREATE TABLE egg (id INT PRIMARY KEY, chicken_id INT, FOREIGN KEY (chicken_id) REFERENCES chicken (id));
ALTER TABLE chicken ADD FOREIGN KEY (egg_id) REFERENCES egg (id);
CREATE VIEW everything AS SELECT e.*, 1 + 1 AS two FROM every_type e;
CREATE VIEW broken AS SELECT id FROM egg WHERE id > 1;
CREATE PROCEDURE nothing() SELECT 1;
