-- A beekeeping cooperative, for SQLite.

CREATE TABLE keeper ( -- A member of the cooperative who looks after bees.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  member_no VARCHAR(12) NOT NULL UNIQUE, -- The number on the membership card.
  name VARCHAR(80) NOT NULL,
  email VARCHAR(120) UNIQUE,
  phone VARCHAR(30),
  joined_on DATE NOT NULL,
  is_active BOOLEAN NOT NULL DEFAULT TRUE -- Whether the member still keeps bees.
);

CREATE TABLE apiary ( -- A place where hives stand.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  keeper_id BIGINT NOT NULL REFERENCES keeper (id), -- Who answers for the place.
  deputy_id BIGINT REFERENCES keeper (id), -- Who steps in.
  name VARCHAR(60) NOT NULL UNIQUE,
  latitude DECIMAL(8,5) CHECK (latitude BETWEEN -90 AND 90),
  longitude DECIMAL(8,5) CHECK (longitude BETWEEN -180 AND 180),
  registered_on DATE NOT NULL,
  details JSON, -- What the land owner wants known.
  created_at TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT CURRENT_TIMESTAMP
);

CREATE TABLE hive ( -- A box of bees that stands in an apiary.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  apiary_id BIGINT NOT NULL REFERENCES apiary (id),
  split_from_id BIGINT REFERENCES hive (id), -- The hive this one was split from.
  name VARCHAR(60) NOT NULL, -- Painted on the front.
  temperament TEXT NOT NULL DEFAULT 'calm' CHECK (temperament IN ('calm', 'nervous', 'fierce')), -- How the bees take a visit.
  frames BIGINT NOT NULL DEFAULT 10 CHECK (frames BETWEEN 1 AND 40),
  weight_kg DECIMAL(6,2) CHECK (weight_kg >= 0),
  acquired_on DATE,
  is_active BOOLEAN NOT NULL DEFAULT TRUE,
  created_at TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT CURRENT_TIMESTAMP,
  CONSTRAINT hive_apiary_id_name_key UNIQUE (apiary_id, name)
);
CREATE INDEX hive_split_from_id_idx ON hive (split_from_id);

CREATE TABLE queen ( -- The queen of a hive.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id BIGINT NOT NULL UNIQUE REFERENCES hive (id) ON DELETE CASCADE,
  marking TEXT CHECK (marking IN ('white', 'yellow', 'red', 'green', 'blue')), -- The colour on her back, by the year she hatched.
  breed VARCHAR(60),
  hatched_on DATE NOT NULL,
  is_clipped BOOLEAN NOT NULL DEFAULT FALSE
);

CREATE TABLE inspection ( -- One visit to one hive.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id BIGINT NOT NULL REFERENCES hive (id) ON DELETE CASCADE,
  keeper_id BIGINT NOT NULL REFERENCES keeper (id),
  done_on DATE NOT NULL,
  started_at TIMESTAMP WITH TIME ZONE,
  brood_frames BIGINT NOT NULL DEFAULT 0 CHECK (brood_frames >= 0),
  queen_seen BOOLEAN NOT NULL DEFAULT FALSE,
  notes TEXT,
  measurements JSON, -- Whatever else was measured.
  CONSTRAINT inspection_hive_id_done_on_key UNIQUE (hive_id, done_on)
);
CREATE INDEX inspection_keeper_id_idx ON inspection (keeper_id);

CREATE TABLE inspection_photo ( -- A picture taken at an inspection.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  inspection_id BIGINT NOT NULL REFERENCES inspection (id) ON DELETE CASCADE,
  taken_at TIMESTAMP WITH TIME ZONE NOT NULL,
  caption VARCHAR(200),
  media_type VARCHAR(60) NOT NULL DEFAULT 'image/png',
  photo BLOB NOT NULL
);
CREATE INDEX inspection_photo_inspection_id_idx ON inspection_photo (inspection_id);

CREATE TABLE substance ( -- Something that hives are treated with.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name VARCHAR(60) NOT NULL UNIQUE,
  unit VARCHAR(12) NOT NULL,
  withdrawal_days BIGINT NOT NULL DEFAULT 0 CHECK (withdrawal_days BETWEEN 0 AND 365) -- Days until honey may be taken again.
);

CREATE TABLE treatment ( -- A substance given to a hive for some time.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id BIGINT NOT NULL REFERENCES hive (id) ON DELETE CASCADE,
  substance_id BIGINT NOT NULL REFERENCES substance (id),
  inspection_id BIGINT REFERENCES inspection (id) ON DELETE SET NULL, -- The visit that led to it.
  started_on DATE NOT NULL,
  ended_on DATE,
  dose DECIMAL(8,3) NOT NULL CHECK (dose > 0),
  CONSTRAINT treatment_ends_after_start CHECK (ended_on IS NULL OR ended_on >= started_on)
);
CREATE INDEX treatment_hive_id_idx ON treatment (hive_id);
CREATE INDEX treatment_substance_id_idx ON treatment (substance_id);
CREATE INDEX treatment_inspection_id_idx ON treatment (inspection_id);

CREATE TABLE forage ( -- A plant that bees visit.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name VARCHAR(60) NOT NULL UNIQUE,
  latin_name VARCHAR(80),
  blooms_from BIGINT NOT NULL CHECK (blooms_from BETWEEN 1 AND 12), -- Month, 1 to 12.
  blooms_to BIGINT NOT NULL CHECK (blooms_to BETWEEN 1 AND 12) -- Month, 1 to 12.
);

CREATE TABLE apiary_forage ( -- Which plants grow within flight of an apiary.
  apiary_id BIGINT NOT NULL REFERENCES apiary (id) ON DELETE CASCADE,
  forage_id BIGINT NOT NULL REFERENCES forage (id) ON DELETE CASCADE,
  PRIMARY KEY (apiary_id, forage_id)
);
CREATE INDEX apiary_forage_forage_id_idx ON apiary_forage (forage_id);

CREATE TABLE harvest ( -- Honey taken from a hive on a day.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id BIGINT NOT NULL REFERENCES hive (id),
  harvested_on DATE NOT NULL,
  weight_kg DECIMAL(7,2) NOT NULL CHECK (weight_kg > 0),
  moisture_pct DECIMAL(4,1) CHECK (moisture_pct BETWEEN 0 AND 100)
);
CREATE INDEX harvest_hive_id_idx ON harvest (hive_id);

CREATE TABLE batch ( -- Honey bottled together.
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  code VARCHAR(20) NOT NULL UNIQUE, -- Printed on every jar.
  bottled_on DATE NOT NULL,
  best_before DATE NOT NULL,
  jars BIGINT NOT NULL CHECK (jars > 0),
  jar_price DECIMAL(8,2),
  CONSTRAINT batch_keeps_a_while CHECK (best_before > bottled_on)
);

CREATE TABLE batch_harvest ( -- How much of a harvest went into a batch.
  batch_id BIGINT NOT NULL REFERENCES batch (id) ON DELETE CASCADE,
  harvest_id BIGINT NOT NULL REFERENCES harvest (id),
  weight_kg DECIMAL(7,2) NOT NULL CHECK (weight_kg > 0),
  PRIMARY KEY (batch_id, harvest_id)
);
CREATE INDEX batch_harvest_harvest_id_idx ON batch_harvest (harvest_id);

CREATE TABLE sensor_reading ( -- What the scale and the probe under a hive report.
  hive_id BIGINT NOT NULL REFERENCES hive (id) ON DELETE CASCADE,
  read_at TIMESTAMP WITH TIME ZONE NOT NULL,
  temperature_c DECIMAL(4,1),
  humidity_pct DOUBLE PRECISION,
  weight_kg DECIMAL(6,2),
  PRIMARY KEY (hive_id, read_at)
);

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
