-- What ANALYZE has found of a table; goes with its catalog.
CREATE TABLE table_statistics (
    catalog text NOT NULL REFERENCES catalogs (name) ON DELETE CASCADE,
    schema_name text NOT NULL,
    table_name text NOT NULL,
    statistics jsonb NOT NULL,
    collected_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (catalog, schema_name, table_name)
);

-- What CREATE FUNCTION has made.
CREATE TABLE functions (
    name text PRIMARY KEY,
    definition jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
