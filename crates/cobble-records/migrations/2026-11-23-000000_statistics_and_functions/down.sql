DROP TABLE functions;
DROP TABLE table_statistics;
