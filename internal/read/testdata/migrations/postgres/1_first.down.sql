DROP TABLE keeper, place, hive;
