DROP TABLE lake_pointers;
DROP TABLE lake_schemas;
