DROP TABLE runs;
DROP TABLE catalogs;
DROP TABLE connections;
