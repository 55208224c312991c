CREATE TYPE mood AS ENUM ('calm', 'lively', 'it''s odd');
CREATE TABLE weighing (id int PRIMARY KEY, weight numeric, price numeric(10,2), ratio float8, small float4, day date, seen_at timestamp, seen_tz timestamptz, lasts interval, doc jsonb, raw json, tags text[], span daterange, bits bit(4), ip inet, mac macaddr, u uuid, big bigint, mood mood, at time, note varchar(20));
INSERT INTO weighing VALUES
  (1, 12.50, 1.10, 0.5, 0.1, '2026-05-01', '2026-05-01 09:30:00', '2026-05-01 09:30:00+02', '7 days', '{"a":{"b":1,"c":[1]},"n":12345678901234567890}', '{"b": 1,  "a":2}', '{a,NULL}', '[2026-05-01,2026-06-01)', '1010', '10.0.0.1', '08:00:2b:01:02:03', '0190b3b4-2c9c-7c3e-9d25-3f1f0c2b7a11', 9223372036854775807, 'calm', '09:30', 'x'),
  (2, 'NaN', 'NaN', 'NaN', 'NaN', 'infinity', 'infinity', '-infinity', '-1 mon 3 days -00:00:00.5', 'null', 'null', '{}', 'empty', '0000', '2001:db8::/32', NULL, NULL, -9223372036854775808, 'it''s odd', '24:00', ''),
  (3, 12.5, 1.1, 'Infinity', '-Infinity', '0044-03-15 BC', '0044-03-15 12:00:00 BC', '0044-03-15 12:00:00+00 BC', '0', '[1.0, 1]', '[]', NULL, NULL, NULL, NULL, NULL, NULL, 0, NULL, NULL, NULL),
  (4, 123456789012345678901234567890.123456789, 99999999.99, -0.0, 1e-30, '9999-12-31', '2026-05-01 09:30:00.123456', '12026-05-01 00:00:00+00', '1 year', '"x"', '"x"', '{"a,b","c\"d"}', '(,)', '1111', '0.0.0.0', NULL, NULL, 9007199254740993, 'lively', '09:30:00.5', 'a b');
CREATE TABLE loose (k text PRIMARY KEY, v text);
INSERT INTO loose VALUES ('', 'empty'), ('.', 'dot'), ('..', 'dots'), ('/', 'slash'), ('summary', 's'), ('a,b;c', 'signs'), ('%2F', 'escape'), (';', 'semicolon'), ('.;', 'both');
CREATE TABLE blobs (k bytea PRIMARY KEY, n int);
INSERT INTO blobs VALUES ('\x00', 1), ('\xfffe3e', 2), ('\x', 3), ('\x3f3e', 4);
CREATE TABLE defaults (
  id serial PRIMARY KEY, a interval NOT NULL DEFAULT '7 days', b boolean NOT NULL DEFAULT true, c text NOT NULL DEFAULT E'it''s \n \\', d numeric NOT NULL DEFAULT .5, e date NOT NULL DEFAULT '2026-05-01', f timestamp NOT NULL DEFAULT '2026-05-01 00:00', g bytea NOT NULL DEFAULT '\x00ff',
  h int NOT NULL DEFAULT -5, i float8 NOT NULL DEFAULT 'NaN', j jsonb NOT NULL DEFAULT '{"a":1}', k text NOT NULL DEFAULT '', l int NOT NULL DEFAULT 1 + 1, m text[] NOT NULL DEFAULT '{}', n uuid NOT NULL DEFAULT '0190b3b4-2c9c-7c3e-9d25-3f1f0c2b7a11', o bit(3) NOT NULL DEFAULT B'101', p time NOT NULL DEFAULT '09:30',
  mood mood NOT NULL DEFAULT 'it''s odd', amount numeric(8,2) NOT NULL DEFAULT 1.5, big bigint NOT NULL DEFAULT 9007199254740993, padded char(5) NOT NULL DEFAULT 'ab', tz timestamptz NOT NULL DEFAULT '2026-05-01 00:00+02', span daterange NOT NULL DEFAULT '[2026-05-01,2026-06-01)', ip inet NOT NULL DEFAULT '10.0.0.1', money money NOT NULL DEFAULT 5);
CREATE TABLE member (id serial PRIMARY KEY, email text NOT NULL UNIQUE, password_hash bytea NOT NULL, passwd_min_length int NOT NULL DEFAULT 8, notify_password interval, api_token uuid);
CREATE TABLE pair (apiary int NOT NULL, name text NOT NULL, extra jsonb, PRIMARY KEY (apiary, name));
INSERT INTO pair VALUES (1, '', '{"a":{"b":1,"c":[1,2]},"n":1}'), (1, '.', NULL), (2, 'a,b', '[1]');
CREATE VIEW same_rows AS SELECT big % 2 AS odd, mood, weight, raw FROM weighing UNION ALL SELECT big % 2, mood, weight, raw FROM weighing UNION ALL SELECT 1, 'calm', 12.5, '{}' FROM weighing UNION ALL SELECT 1, 'calm', 12.50, '{}';
CREATE VIEW sums AS SELECT note, sum(price) AS total, max(seen_at) AS latest, avg(ratio) AS mean FROM weighing GROUP BY note
