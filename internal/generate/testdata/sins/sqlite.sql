-- Tables as other programs leave them: values that do not fit their columns, odd
-- keys, times as texts and numbers, defaults of every kind, views without keys.
CREATE TABLE weighing (id INTEGER PRIMARY KEY, weight NUMERIC, frames INTEGER, seen_at TIMESTAMP, day DATE, calm BOOLEAN, note TEXT, price DECIMAL(10,2), ratio REAL);
INSERT INTO weighing VALUES
  (1, 12.5, 10, '2026-05-01 09:30:00', '2026-05-01', 1, 'plain', 1.10, 0.5),
  (2, 'heavy', 'ten', '2026-05-01T09:30:00', '2026-05-02T00:00:00', 'true', x'62696e', 2.20, 1.5),
  (3, NULL, 2461161.5, '2026-05-01T11:30:00+02:00', '2026-05-03', 0, NULL, 26.15, 9e99),
  (4, 1e300, 7, 1777627800, 2461162.5, 'f', 'x', 3.3, NULL),
  (5, 0, 9007199254740993, 2461161.89583333, NULL, NULL, 'y', NULL, -0.0),
  (6, '', 3, 'soon', 'some day', 'maybe', '', 0, 2),
  (7, 5, 4, '2026-05-01T09:30:00Z', '2026-05-01', 1, 'T', 1, 3),
  (8, 6, 4, '2026-05-01 09:30:00.250', '2026-05-01', 1, 'T', 1, 3),
  (9, 7, 4, '2026-05-01T08:00', '2026-05-01', 1, 'T', 1, 3),
  (10, 8, 4, 1777627800000, '2026-05-01', 1, 'T', 1, 3);
CREATE TABLE loose (k TEXT PRIMARY KEY, v, w ANY, made TIMESTAMP DEFAULT CURRENT_TIMESTAMP);
INSERT INTO loose (k, v, w) VALUES ('', 1, 1.5), ('.', '1', 'a'), ('..', 1.0, NULL), ('/', x'00ff', 2), ('summary', 'text', 3), ('a,b;c', 10, 4), ('%2F', 9, 5), ('ü ', NULL, 6), (NULL, 7, 7), (NULL, 7, 7), (NULL, 8, 8), (x'61ff', 3, 9);
CREATE TABLE blobs (k BLOB PRIMARY KEY, n INT) WITHOUT ROWID;
INSERT INTO blobs VALUES (x'00', 1), (x'fffe3e', 2), (x'', 3), (x'3f3e', 4);
CREATE TABLE defaults (
  id INTEGER PRIMARY KEY, a INTEGER NOT NULL DEFAULT FALSE, b BOOLEAN NOT NULL DEFAULT TRUE, c TEXT NOT NULL DEFAULT 'it''s \n', d NUMERIC NOT NULL DEFAULT .5,
  e DATE NOT NULL DEFAULT '2026-05-01', f TIMESTAMP NOT NULL DEFAULT '2026-05-01T00:00:00Z', g BLOB NOT NULL DEFAULT x'00ff', h INTEGER NOT NULL DEFAULT -5, i REAL NOT NULL DEFAULT 1e3,
  j TEXT NOT NULL DEFAULT "double", k TEXT NOT NULL DEFAULT '', l INTEGER NOT NULL DEFAULT (1 + 1), m JSON NOT NULL DEFAULT '{"a":1}', n TEXT DEFAULT NULL, o INTEGER NOT NULL DEFAULT 0x10, p TIME NOT NULL DEFAULT '09:30', amount DECIMAL(8,2) NOT NULL DEFAULT 1.50);
CREATE TABLE member (id INTEGER PRIMARY KEY, email TEXT NOT NULL UNIQUE, password_hash TEXT NOT NULL, passwd_min_length INTEGER NOT NULL DEFAULT 8, pin INTEGER, api_token BLOB);
CREATE TABLE pair (apiary INTEGER NOT NULL, name TEXT NOT NULL, extra JSON, PRIMARY KEY (apiary, name));
INSERT INTO pair VALUES (1, '', '{"a":{"b":1,"c":[1,2]},"n":12345678901234567890}'), (1, '.', NULL), (2, 'a,b', '[1]');
CREATE VIEW same_rows AS SELECT frames % 2 AS odd, calm, 'x' AS fixed FROM weighing UNION ALL SELECT 1, 1, 'x' FROM weighing UNION ALL SELECT 1, 1, 'X' FROM weighing;
CREATE VIEW sums AS SELECT note, sum(price) AS total, max(seen_at) AS latest FROM weighing GROUP BY note;
