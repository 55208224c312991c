CREATE TABLE apiary (
    id   INTEGER PRIMARY KEY,
    name VARCHAR(60) NOT NULL UNIQUE
);

CREATE TABLE hive (
    id        INTEGER PRIMARY KEY,
    apiary_id BIGINT NOT NULL REFERENCES apiary (id),
    name      VARCHAR(60) NOT NULL,
    frames    BIGINT
);

CREATE VIEW crowded AS SELECT apiary_id, count(*) AS hives FROM hive GROUP BY apiary_id;
