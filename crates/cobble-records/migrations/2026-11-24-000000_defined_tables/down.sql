DROP TABLE discoveries;
ALTER TABLE catalogs DROP COLUMN definition;
