DROP TABLE views;
