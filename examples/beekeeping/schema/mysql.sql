-- A beekeeping cooperative, for MariaDB 10.5 and MySQL 8.0 and later.

CREATE TABLE keeper (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  member_no VARCHAR(12) NOT NULL UNIQUE COMMENT 'The number on the membership card.',
  name VARCHAR(80) NOT NULL,
  email VARCHAR(120) UNIQUE,
  phone VARCHAR(30),
  joined_on DATE NOT NULL,
  is_active BOOLEAN NOT NULL DEFAULT TRUE COMMENT 'Whether the member still keeps bees.'
) COMMENT = 'A member of the cooperative who looks after bees.';

CREATE TABLE apiary (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  keeper_id BIGINT NOT NULL COMMENT 'Who answers for the place.',
  deputy_id BIGINT COMMENT 'Who steps in.',
  name VARCHAR(60) NOT NULL UNIQUE,
  latitude DECIMAL(8,5) CHECK (latitude BETWEEN -90 AND 90),
  longitude DECIMAL(8,5) CHECK (longitude BETWEEN -180 AND 180),
  registered_on DATE NOT NULL,
  details JSON COMMENT 'What the land owner wants known.',
  created_at TIMESTAMP(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  CONSTRAINT apiary_keeper_id_fkey FOREIGN KEY (keeper_id) REFERENCES keeper (id),
  CONSTRAINT apiary_deputy_id_fkey FOREIGN KEY (deputy_id) REFERENCES keeper (id)
) COMMENT = 'A place where hives stand.';

CREATE TABLE hive (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  apiary_id BIGINT NOT NULL,
  split_from_id BIGINT COMMENT 'The hive this one was split from.',
  name VARCHAR(60) NOT NULL COMMENT 'Painted on the front.',
  temperament ENUM('calm', 'nervous', 'fierce') NOT NULL DEFAULT 'calm' COMMENT 'How the bees take a visit.',
  frames BIGINT NOT NULL DEFAULT 10 CHECK (frames BETWEEN 1 AND 40),
  weight_kg DECIMAL(6,2) CHECK (weight_kg >= 0),
  acquired_on DATE,
  is_active BOOLEAN NOT NULL DEFAULT TRUE,
  created_at TIMESTAMP(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  CONSTRAINT hive_apiary_id_name_key UNIQUE (apiary_id, name),
  CONSTRAINT hive_apiary_id_fkey FOREIGN KEY (apiary_id) REFERENCES apiary (id),
  CONSTRAINT hive_split_from_id_fkey FOREIGN KEY (split_from_id) REFERENCES hive (id)
) COMMENT = 'A box of bees that stands in an apiary.';
CREATE INDEX hive_split_from_id_idx ON hive (split_from_id);

CREATE TABLE queen (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  hive_id BIGINT NOT NULL UNIQUE,
  marking ENUM('white', 'yellow', 'red', 'green', 'blue') COMMENT 'The colour on her back, by the year she hatched.',
  breed VARCHAR(60),
  hatched_on DATE NOT NULL,
  is_clipped BOOLEAN NOT NULL DEFAULT FALSE,
  CONSTRAINT queen_hive_id_fkey FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE
) COMMENT = 'The queen of a hive.';

CREATE TABLE inspection (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  hive_id BIGINT NOT NULL,
  keeper_id BIGINT NOT NULL,
  done_on DATE NOT NULL,
  started_at TIMESTAMP(6) NULL,
  brood_frames BIGINT NOT NULL DEFAULT 0 CHECK (brood_frames >= 0),
  queen_seen BOOLEAN NOT NULL DEFAULT FALSE,
  notes TEXT,
  measurements JSON COMMENT 'Whatever else was measured.',
  CONSTRAINT inspection_hive_id_done_on_key UNIQUE (hive_id, done_on),
  CONSTRAINT inspection_hive_id_fkey FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE,
  CONSTRAINT inspection_keeper_id_fkey FOREIGN KEY (keeper_id) REFERENCES keeper (id)
) COMMENT = 'One visit to one hive.';
CREATE INDEX inspection_keeper_id_idx ON inspection (keeper_id);

CREATE TABLE inspection_photo (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  inspection_id BIGINT NOT NULL,
  taken_at TIMESTAMP(6) NOT NULL,
  caption VARCHAR(200),
  media_type VARCHAR(60) NOT NULL DEFAULT 'image/png',
  photo LONGBLOB NOT NULL,
  CONSTRAINT inspection_photo_inspection_id_fkey FOREIGN KEY (inspection_id) REFERENCES inspection (id) ON DELETE CASCADE
) COMMENT = 'A picture taken at an inspection.';
CREATE INDEX inspection_photo_inspection_id_idx ON inspection_photo (inspection_id);

CREATE TABLE substance (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(60) NOT NULL UNIQUE,
  unit VARCHAR(12) NOT NULL,
  withdrawal_days BIGINT NOT NULL DEFAULT 0 COMMENT 'Days until honey may be taken again.' CHECK (withdrawal_days BETWEEN 0 AND 365)
) COMMENT = 'Something that hives are treated with.';

CREATE TABLE treatment (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  hive_id BIGINT NOT NULL,
  substance_id BIGINT NOT NULL,
  inspection_id BIGINT COMMENT 'The visit that led to it.',
  started_on DATE NOT NULL,
  ended_on DATE,
  dose DECIMAL(8,3) NOT NULL CHECK (dose > 0),
  CONSTRAINT treatment_ends_after_start CHECK (ended_on IS NULL OR ended_on >= started_on),
  CONSTRAINT treatment_hive_id_fkey FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE,
  CONSTRAINT treatment_substance_id_fkey FOREIGN KEY (substance_id) REFERENCES substance (id),
  CONSTRAINT treatment_inspection_id_fkey FOREIGN KEY (inspection_id) REFERENCES inspection (id) ON DELETE SET NULL
) COMMENT = 'A substance given to a hive for some time.';
CREATE INDEX treatment_hive_id_idx ON treatment (hive_id);
CREATE INDEX treatment_substance_id_idx ON treatment (substance_id);
CREATE INDEX treatment_inspection_id_idx ON treatment (inspection_id);

CREATE TABLE forage (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(60) NOT NULL UNIQUE,
  latin_name VARCHAR(80),
  blooms_from BIGINT NOT NULL COMMENT 'Month, 1 to 12.' CHECK (blooms_from BETWEEN 1 AND 12),
  blooms_to BIGINT NOT NULL COMMENT 'Month, 1 to 12.' CHECK (blooms_to BETWEEN 1 AND 12)
) COMMENT = 'A plant that bees visit.';

CREATE TABLE apiary_forage (
  apiary_id BIGINT NOT NULL,
  forage_id BIGINT NOT NULL,
  PRIMARY KEY (apiary_id, forage_id),
  CONSTRAINT apiary_forage_apiary_id_fkey FOREIGN KEY (apiary_id) REFERENCES apiary (id) ON DELETE CASCADE,
  CONSTRAINT apiary_forage_forage_id_fkey FOREIGN KEY (forage_id) REFERENCES forage (id) ON DELETE CASCADE
) COMMENT = 'Which plants grow within flight of an apiary.';
CREATE INDEX apiary_forage_forage_id_idx ON apiary_forage (forage_id);

CREATE TABLE harvest (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  hive_id BIGINT NOT NULL,
  harvested_on DATE NOT NULL,
  weight_kg DECIMAL(7,2) NOT NULL CHECK (weight_kg > 0),
  moisture_pct DECIMAL(4,1) CHECK (moisture_pct BETWEEN 0 AND 100),
  CONSTRAINT harvest_hive_id_fkey FOREIGN KEY (hive_id) REFERENCES hive (id)
) COMMENT = 'Honey taken from a hive on a day.';
CREATE INDEX harvest_hive_id_idx ON harvest (hive_id);

CREATE TABLE batch (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  code VARCHAR(20) NOT NULL UNIQUE COMMENT 'Printed on every jar.',
  bottled_on DATE NOT NULL,
  best_before DATE NOT NULL,
  jars BIGINT NOT NULL CHECK (jars > 0),
  jar_price DECIMAL(8,2),
  CONSTRAINT batch_keeps_a_while CHECK (best_before > bottled_on)
) COMMENT = 'Honey bottled together.';

CREATE TABLE batch_harvest (
  batch_id BIGINT NOT NULL,
  harvest_id BIGINT NOT NULL,
  weight_kg DECIMAL(7,2) NOT NULL CHECK (weight_kg > 0),
  PRIMARY KEY (batch_id, harvest_id),
  CONSTRAINT batch_harvest_batch_id_fkey FOREIGN KEY (batch_id) REFERENCES batch (id) ON DELETE CASCADE,
  CONSTRAINT batch_harvest_harvest_id_fkey FOREIGN KEY (harvest_id) REFERENCES harvest (id)
) COMMENT = 'How much of a harvest went into a batch.';
CREATE INDEX batch_harvest_harvest_id_idx ON batch_harvest (harvest_id);

CREATE TABLE sensor_reading (
  hive_id BIGINT NOT NULL,
  read_at TIMESTAMP(6) NOT NULL,
  temperature_c DECIMAL(4,1),
  humidity_pct DOUBLE PRECISION,
  weight_kg DECIMAL(6,2),
  PRIMARY KEY (hive_id, read_at),
  CONSTRAINT sensor_reading_hive_id_fkey FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE
) COMMENT = 'What the scale and the probe under a hive report.';

CREATE VIEW apiary_yield AS
SELECT a.id AS apiary_id, a.name AS apiary_name, count(h.id) AS harvests, sum(h.weight_kg) AS weight_kg
FROM apiary a
JOIN hive v ON v.apiary_id = a.id
LEFT JOIN harvest h ON h.hive_id = v.id
GROUP BY a.id, a.name;

CREATE VIEW hive_overview AS
SELECT v.id AS hive_id, v.name AS hive_name, a.name AS apiary_name, q.marking AS queen_marking,
  (SELECT max(i.done_on) FROM inspection i WHERE i.hive_id = v.id) AS last_inspected_on
FROM hive v
JOIN apiary a ON a.id = v.apiary_id
LEFT JOIN queen q ON q.hive_id = v.id;

CREATE VIEW batch_origin AS
SELECT b.code AS batch_code, a.name AS apiary_name, sum(c.weight_kg) AS weight_kg
FROM batch b
JOIN batch_harvest c ON c.batch_id = b.id
JOIN harvest h ON h.id = c.harvest_id
JOIN hive v ON v.id = h.hive_id
JOIN apiary a ON a.id = v.apiary_id
GROUP BY b.code, a.name;
