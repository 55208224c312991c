ALTER TABLE log REMOVE PARTITIONING;
DROP TABLE IF EXISTS nothing, scrap;
ALTER TABLE hive RENAME INDEX once TO only_once;
ALTER TABLE apiary DROP FOREIGN KEY apiary_ibfk_1, DROP INDEX keeper_id;
DROP INDEX keeper_email ON keeper;
RENAME TABLE log TO journal;
CREATE OR REPLACE VIEW names AS SELECT id, name, UPPER(name) AS loud FROM keeper;
CREATE VIEW per_apiary AS SELECT a.id, COUNT(*) AS hives, SUM(h.weight) AS weight, COALESCE(a.label, 'none') AS label, AVG(h.weight) AS half FROM apiary a LEFT JOIN hive h ON h.apiary_id = a.id GROUP BY a.id;
DELIMITER //
CREATE TRIGGER hive_check BEFORE INSERT ON hive FOR EACH ROW BEGIN SET NEW.code = UPPER(NEW.code); END//
CREATE PROCEDURE tidy(IN days INT) BEGIN DELETE FROM journal WHERE at < CURRENT_DATE - INTERVAL days DAY; END//
DELIMITER ;
DROP PROCEDURE tidy;
