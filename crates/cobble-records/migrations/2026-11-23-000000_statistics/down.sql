DROP TABLE table_statistics;
