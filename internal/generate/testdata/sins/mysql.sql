CREATE TABLE weighing (id INT PRIMARY KEY, weight DECIMAL(30,9), price DECIMAL(10,2), ratio DOUBLE, small FLOAT, day DATE, seen_at DATETIME, seen_exact DATETIME(6), stamp TIMESTAMP NULL, lasts TIME, doc JSON, calm BOOLEAN, bits BIT(4), mood ENUM('calm', 'lively', 'it''s odd'), big BIGINT UNSIGNED, note VARCHAR(20), hatched YEAR);
SET STATEMENT sql_mode='' FOR INSERT INTO weighing VALUES
  (1, 12.5, 1.10, 0.5, 0.1, '2026-05-01', '2026-05-01 09:30:00', '2026-05-01 09:30:00.25', '2026-05-01 09:30:00', '09:30:00', '{"a":{"b":1,"c":[1]},"n":12345678901234567890}', 1, b'1010', 'calm', 18446744073709551615, 'x', 2026),
  (2, 0, 0, -0.0, 1e-30, '0000-00-00', '0000-00-00 00:00:00', '0000-00-00 00:00:00', '0000-00-00 00:00:00', '-838:59:59', 'null', 0, b'0', '', 0, '', 1901),
  (3, 123456789012345678901.123456789, 99999999.99, 1e300, 3e38, '2026-05-00', '9999-12-31 23:59:59', NULL, NULL, '838:59:59', '[1.0, 1]', 2, NULL, 'it''s odd', 9007199254740993, 'X', NULL),
  (4, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, 'x ', NULL);
CREATE TABLE loose (k VARCHAR(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin PRIMARY KEY, v TEXT);
INSERT INTO loose VALUES ('', 'empty'), ('.', 'dot'), ('..', 'dots'), ('/', 'slash'), ('summary', 's'), ('a,b;c', 'signs'), ('%2F', 'escape'), (';', 'semicolon'), ('.;', 'both');
CREATE TABLE blobs (k VARBINARY(20) PRIMARY KEY, n INT);
INSERT INTO blobs VALUES (x'00', 1), (x'fffe3e', 2), (x'', 3), (x'3f3e', 4);
CREATE TABLE defaults (
  id INT AUTO_INCREMENT PRIMARY KEY, a INT NOT NULL DEFAULT FALSE, b BOOLEAN NOT NULL DEFAULT TRUE, c VARCHAR(20) NOT NULL DEFAULT 'it''s \n \\', d DECIMAL(5,2) NOT NULL DEFAULT .5, e DATE NOT NULL DEFAULT '2026-05-01', f DATETIME NOT NULL DEFAULT '2026-05-01 00:00:00', g VARBINARY(4) NOT NULL DEFAULT x'00ff', h INT NOT NULL DEFAULT -5,
  i DOUBLE NOT NULL DEFAULT 1e3, j JSON NOT NULL DEFAULT '{"a":1}', k VARCHAR(5) NOT NULL DEFAULT '', l INT NOT NULL DEFAULT (1 + 1), m BIT(1) NOT NULL DEFAULT b'1', n BIT(8) NOT NULL DEFAULT b'101', o TIME NOT NULL DEFAULT '09:30', mood ENUM('calm', 'it''s odd') NOT NULL DEFAULT 'it''s odd', marks SET('a', 'b') NOT NULL DEFAULT 'a,b', hatched YEAR NOT NULL DEFAULT 2026, big BIGINT UNSIGNED NOT NULL DEFAULT 18446744073709551615, padded CHAR(5) NOT NULL DEFAULT 'ab', quoted VARCHAR(20) NOT NULL DEFAULT "a\"b\tc\0d", amount DECIMAL(8,2) NOT NULL DEFAULT 1.50);
CREATE TABLE member (id INT AUTO_INCREMENT PRIMARY KEY, email VARCHAR(100) NOT NULL UNIQUE, password_hash VARCHAR(100) NOT NULL, passwd_min_length INT NOT NULL DEFAULT 8, api_token VARBINARY(32));
CREATE TABLE pair (apiary INT NOT NULL, name VARCHAR(20) NOT NULL, extra JSON, PRIMARY KEY (apiary, name));
INSERT INTO pair VALUES (1, '', '{"a":{"b":1,"c":[1,2]},"n":1}'), (1, '.', NULL), (2, 'a,b', '[1]');
CREATE VIEW same_rows AS SELECT big % 2 AS odd, note, weight FROM weighing UNION ALL SELECT big % 2, note, weight FROM weighing UNION ALL SELECT 1, 'x', 12.5 FROM weighing UNION ALL SELECT 1, 'X', 12.5;
CREATE VIEW sums AS SELECT note, sum(price) AS total, max(seen_at) AS latest, avg(ratio) AS mean FROM weighing GROUP BY note
