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
CREATE TABLE gone (id INT);
CREATE VIEW broken AS SELECT id FROM gone;
DROP TABLE gone;
CREATE PROCEDURE nothing() SELECT 1;
CREATE TABLE twice (id INT PRIMARY KEY, hive_id INT, CONSTRAINT one FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE, CONSTRAINT two FOREIGN KEY (hive_id) REFERENCES hive (id));
INSERT INTO twice VALUES (1, 1);
CREATE TABLE shift (tenant INT, id INT, boss INT, name VARCHAR(40) COLLATE utf8mb4_bin NOT NULL DEFAULT 'it''s "quoted"' COMMENT 'What''s in it; -- no code */', PRIMARY KEY (tenant, id), FOREIGN KEY (tenant, boss) REFERENCES shift (tenant, id)) COMMENT 'One shift, "quoted" {{.Title}} `x`';
INSERT INTO shift (tenant, id, boss) VALUES (1, 1, NULL), (1, 2, 1);
CREATE TABLE visit (tenant INT NOT NULL, shift_id INT, stand_in_id INT, at TIME(3), FOREIGN KEY (tenant, shift_id) REFERENCES shift (tenant, id), FOREIGN KEY (tenant, stand_in_id) REFERENCES shift (tenant, id));
INSERT INTO visit VALUES (1, 1, 2, '838:59:59');
CREATE TABLE `2nd hive$` (`a$b` INT, `$` INT, `1` INT PRIMARY KEY, `-` TEXT, `order by` TEXT, `with` TEXT, `all` TEXT, `count` TEXT, `A b` TEXT, `A_b` TEXT);
INSERT INTO `2nd hive$` VALUES (1, 2, 3, '4', '5', '6', '7', '8', '9', '10');
CREATE TABLE `Bienenstöcke` (`größe in m²` DECIMAL(4,2) PRIMARY KEY, `名前` VARCHAR(20) NOT NULL DEFAULT '蜂蜜', `ß` TEXT);
INSERT INTO `Bienenstöcke` (`größe in m²`) VALUES (1.50);
CREATE TABLE `type` (id INT PRIMARY KEY, func TEXT, `range` INT, `interface` TEXT, package TEXT, map TEXT, chan TEXT);
INSERT INTO `type` (id) VALUES (1);
CREATE TABLE gate (id INT PRIMARY KEY, store TEXT, rest TEXT, context TEXT, `time` TEXT, http TEXT, e TEXT, k TEXT, s TEXT);
INSERT INTO gate (id) VALUES (1);
CREATE TABLE store (gate_id INT PRIMARY KEY, `string` TEXT, error TEXT, nil TEXT, `any` TEXT, FOREIGN KEY (gate_id) REFERENCES gate (id));
INSERT INTO store (gate_id) VALUES (1);
CREATE TABLE a_table_whose_name_is_as_long_as_the_server_allows_it_to_be_64by (a_column_whose_name_is_as_long_as_the_server_allows_it_to_be_64b INT PRIMARY KEY, n INT);
INSERT INTO a_table_whose_name_is_as_long_as_the_server_allows_it_to_be_64by VALUES (1, 1);
CREATE TABLE limits (id INT PRIMARY KEY, d DATE, dt DATETIME(6), ts TIMESTAMP(6) NULL, n DECIMAL(65,30), f8 DOUBLE, f4 FLOAT, i8 BIGINT, u8 BIGINT UNSIGNED, i1 TINYINT, u3 MEDIUMINT UNSIGNED, t LONGTEXT, bl LONGBLOB, j JSON, ti TIME(6), y YEAR, b8 BIT(64));
INSERT INTO limits VALUES (1, '0000-00-00', '0000-00-00 00:00:00', NULL, 12345678901234567890123456789012345.123456789012345678901234567890, 1.7976931348623157e308, 3.4e38, 9223372036854775807, 18446744073709551615, 127, 16777215, '', '', 'null', '-838:59:59.999999', 2155, b'1111111111111111111111111111111111111111111111111111111111111111');
INSERT INTO limits VALUES (2, '9999-12-31', '9999-12-31 23:59:59.999999', '2038-01-19 03:14:07.999999', -0.000000000000000000000000000001, 2.2250738585072014e-308, -1.5, -9223372036854775808, 0, -128, 0, REPEAT('蜂', 30000), UNHEX(REPEAT('00ff', 20000)), '[1.0, "\u00e9"]', '00:00:00.000001', 1901, b'0');
INSERT INTO limits VALUES (3, '0000-00-00', '1000-01-01', '1970-01-01 00:00:01', 0, -0.5, 0, 0, 9223372036854775808, 0, 1, 'tab	quote"<b>', x'00', '{}', '100:00:00', 0, b'1');
CREATE TABLE old_engine (id INT AUTO_INCREMENT PRIMARY KEY, hive_id INT, body TEXT, FULLTEXT KEY body (body)) ENGINE=MyISAM;
INSERT INTO old_engine (hive_id, body) VALUES (1, 'honey');
CREATE TABLE in_memory (id INT PRIMARY KEY, n INT, KEY n (n)) ENGINE=MEMORY;
INSERT INTO in_memory VALUES (1, 2);
CREATE TABLE places (id INT PRIMARY KEY, spot POINT NOT NULL, area POLYGON, SPATIAL KEY spot (spot));
INSERT INTO places VALUES (1, ST_GeomFromText('POINT(1 2)'), NULL);
CREATE TABLE by_year (id INT, at DATE, PRIMARY KEY (id, at)) PARTITION BY RANGE (YEAR(at)) (PARTITION p0 VALUES LESS THAN (2026), PARTITION p1 VALUES LESS THAN MAXVALUE);
INSERT INTO by_year VALUES (1, '2026-05-01');
CREATE TABLE stamped (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP, frozen DATETIME DEFAULT '2026-05-01 10:11:12', amount DECIMAL(6,2) NOT NULL DEFAULT 0, g VARCHAR(20) AS (CONCAT('n', amount)) VIRTUAL, CHECK (amount >= 0));
INSERT INTO stamped (id) VALUES (1);
CREATE TABLE other_width (id INT PRIMARY KEY, code VARCHAR(5) COLLATE utf8mb4_bin, n SMALLINT ZEROFILL, UNIQUE KEY both_of (code, n));
INSERT INTO other_width VALUES (1, 'c', 5);
CREATE TABLE wide (id INT PRIMARY KEY, reading_001 TEXT, reading_002 DECIMAL(8,2), reading_003 DATETIME, reading_004 INT, reading_005 TEXT, reading_006 DECIMAL(8,2), reading_007 DATETIME, reading_008 INT, reading_009 TEXT, reading_010 DECIMAL(8,2), reading_011 DATETIME, reading_012 INT, reading_013 TEXT, reading_014 DECIMAL(8,2), reading_015 DATETIME, reading_016 INT, reading_017 TEXT, reading_018 DECIMAL(8,2), reading_019 DATETIME, reading_020 INT, reading_021 TEXT, reading_022 DECIMAL(8,2), reading_023 DATETIME, reading_024 INT, reading_025 TEXT, reading_026 DECIMAL(8,2), reading_027 DATETIME, reading_028 INT, reading_029 TEXT, reading_030 DECIMAL(8,2), reading_031 DATETIME, reading_032 INT, reading_033 TEXT, reading_034 DECIMAL(8,2), reading_035 DATETIME, reading_036 INT, reading_037 TEXT, reading_038 DECIMAL(8,2), reading_039 DATETIME, reading_040 INT, reading_041 TEXT, reading_042 DECIMAL(8,2), reading_043 DATETIME, reading_044 INT, reading_045 TEXT, reading_046 DECIMAL(8,2), reading_047 DATETIME, reading_048 INT, reading_049 TEXT, reading_050 DECIMAL(8,2), reading_051 DATETIME, reading_052 INT, reading_053 TEXT, reading_054 DECIMAL(8,2), reading_055 DATETIME, reading_056 INT, reading_057 TEXT, reading_058 DECIMAL(8,2), reading_059 DATETIME, reading_060 INT, reading_061 TEXT, reading_062 DECIMAL(8,2), reading_063 DATETIME, reading_064 INT, reading_065 TEXT, reading_066 DECIMAL(8,2), reading_067 DATETIME, reading_068 INT, reading_069 TEXT, reading_070 DECIMAL(8,2), reading_071 DATETIME, reading_072 INT, reading_073 TEXT, reading_074 DECIMAL(8,2), reading_075 DATETIME, reading_076 INT, reading_077 TEXT, reading_078 DECIMAL(8,2), reading_079 DATETIME, reading_080 INT, reading_081 TEXT, reading_082 DECIMAL(8,2), reading_083 DATETIME, reading_084 INT, reading_085 TEXT, reading_086 DECIMAL(8,2), reading_087 DATETIME, reading_088 INT, reading_089 TEXT, reading_090 DECIMAL(8,2), reading_091 DATETIME, reading_092 INT, reading_093 TEXT, reading_094 DECIMAL(8,2), reading_095 DATETIME, reading_096 INT, reading_097 TEXT, reading_098 DECIMAL(8,2), reading_099 DATETIME, reading_100 INT, reading_101 TEXT, reading_102 DECIMAL(8,2), reading_103 DATETIME, reading_104 INT, reading_105 TEXT, reading_106 DECIMAL(8,2), reading_107 DATETIME, reading_108 INT, reading_109 TEXT, reading_110 DECIMAL(8,2), reading_111 DATETIME, reading_112 INT, reading_113 TEXT, reading_114 DECIMAL(8,2), reading_115 DATETIME, reading_116 INT, reading_117 TEXT, reading_118 DECIMAL(8,2), reading_119 DATETIME, reading_120 INT, reading_121 TEXT, reading_122 DECIMAL(8,2), reading_123 DATETIME, reading_124 INT, reading_125 TEXT, reading_126 DECIMAL(8,2), reading_127 DATETIME, reading_128 INT, reading_129 TEXT, reading_130 DECIMAL(8,2), reading_131 DATETIME, reading_132 INT, reading_133 TEXT, reading_134 DECIMAL(8,2), reading_135 DATETIME, reading_136 INT, reading_137 TEXT, reading_138 DECIMAL(8,2), reading_139 DATETIME, reading_140 INT, reading_141 TEXT, reading_142 DECIMAL(8,2), reading_143 DATETIME, reading_144 INT, reading_145 TEXT, reading_146 DECIMAL(8,2), reading_147 DATETIME, reading_148 INT, reading_149 TEXT, reading_150 DECIMAL(8,2), reading_151 DATETIME, reading_152 INT, reading_153 TEXT, reading_154 DECIMAL(8,2), reading_155 DATETIME, reading_156 INT, reading_157 TEXT, reading_158 DECIMAL(8,2), reading_159 DATETIME, reading_160 INT, reading_161 TEXT, reading_162 DECIMAL(8,2), reading_163 DATETIME, reading_164 INT, reading_165 TEXT, reading_166 DECIMAL(8,2), reading_167 DATETIME, reading_168 INT, reading_169 TEXT, reading_170 DECIMAL(8,2), reading_171 DATETIME, reading_172 INT, reading_173 TEXT, reading_174 DECIMAL(8,2), reading_175 DATETIME, reading_176 INT, reading_177 TEXT, reading_178 DECIMAL(8,2), reading_179 DATETIME, reading_180 INT, reading_181 TEXT, reading_182 DECIMAL(8,2), reading_183 DATETIME, reading_184 INT, reading_185 TEXT, reading_186 DECIMAL(8,2), reading_187 DATETIME, reading_188 INT, reading_189 TEXT, reading_190 DECIMAL(8,2), reading_191 DATETIME, reading_192 INT, reading_193 TEXT, reading_194 DECIMAL(8,2), reading_195 DATETIME, reading_196 INT, reading_197 TEXT, reading_198 DECIMAL(8,2), reading_199 DATETIME, reading_200 INT, reading_201 TEXT, reading_202 DECIMAL(8,2), reading_203 DATETIME, reading_204 INT, reading_205 TEXT, reading_206 DECIMAL(8,2), reading_207 DATETIME, reading_208 INT, reading_209 TEXT, reading_210 DECIMAL(8,2), reading_211 DATETIME, reading_212 INT, reading_213 TEXT, reading_214 DECIMAL(8,2), reading_215 DATETIME, reading_216 INT, reading_217 TEXT, reading_218 DECIMAL(8,2), reading_219 DATETIME, reading_220 INT, reading_221 TEXT, reading_222 DECIMAL(8,2), reading_223 DATETIME, reading_224 INT, reading_225 TEXT, reading_226 DECIMAL(8,2), reading_227 DATETIME, reading_228 INT, reading_229 TEXT, reading_230 DECIMAL(8,2), reading_231 DATETIME, reading_232 INT, reading_233 TEXT, reading_234 DECIMAL(8,2), reading_235 DATETIME, reading_236 INT, reading_237 TEXT, reading_238 DECIMAL(8,2), reading_239 DATETIME, reading_240 INT, reading_241 TEXT, reading_242 DECIMAL(8,2), reading_243 DATETIME, reading_244 INT, reading_245 TEXT, reading_246 DECIMAL(8,2), reading_247 DATETIME, reading_248 INT, reading_249 TEXT);
INSERT INTO wide (id, reading_001) VALUES (1, 1);
CREATE VIEW open_hives AS SELECT id, hive AS stand FROM hive WHERE hive IS NOT NULL;
CREATE VIEW over_views AS SELECT o.stand, COUNT(*) AS n, MAX(e.n) AS most FROM open_hives o LEFT JOIN everything e ON e.id = o.id GROUP BY o.stand;
CREATE FUNCTION add_up(a INT, b DECIMAL(6,2)) RETURNS DECIMAL(8,2) DETERMINISTIC NO SQL COMMENT 'Adds two numbers.' RETURN a + b;
CREATE PROCEDURE swap(IN a INT, OUT b INT, INOUT c VARCHAR(5)) READS SQL DATA SET b = a;

-- Facts that are easily lost.
CREATE SEQUENCE ticket_no START WITH 10 INCREMENT BY 5;
CREATE SEQUENCE plain_no;
CREATE TABLE easily_lost (
	id INT PRIMARY KEY AUTO_INCREMENT,
	two_lines VARCHAR(20) DEFAULT 'a\nb',
	on_off BIT(1) DEFAULT b'1',
	some_bits BIT(8) DEFAULT b'101',
	never_less DECIMAL(10,2) UNSIGNED DEFAULT 1.5,
	never_less_either FLOAT UNSIGNED,
	three INT DEFAULT (1 + 2),
	tomorrow DATETIME DEFAULT (now() + INTERVAL 1 DAY),
	slashed ENUM('a\\b', 'c''d') DEFAULT 'a\\b',
	ticket BIGINT DEFAULT nextval(ticket_no),
	kept INT AS (three + 1) STORED,
	computed INT AS (three * 2) VIRTUAL
);
CREATE FUNCTION never_negative(a INT UNSIGNED) RETURNS INT UNSIGNED DETERMINISTIC RETURN a;
INSERT INTO easily_lost (never_less, never_less_either) VALUES (2.5, 1.25);
