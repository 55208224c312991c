CREATE TABLE keeper (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, card INT UNIQUE, name VARCHAR(40) NOT NULL COMMENT 'On the card.', old_name TEXT, email VARCHAR(80), KEY (email), CONSTRAINT named CHECK (name <> ''));
CREATE TABLE place (id INT, code VARCHAR(20), keeper_id INT UNSIGNED, mood ENUM('calm','wild') DEFAULT 'calm', PRIMARY KEY (id), FOREIGN KEY (keeper_id) REFERENCES keeper (id));
CREATE TABLE hive LIKE place;
CREATE TABLE log (id BIGINT, at DATE NOT NULL, note TEXT, PRIMARY KEY (id, at));
CREATE TABLE scrap (id INT PRIMARY KEY);
CREATE VIEW names AS SELECT id, name FROM keeper;
