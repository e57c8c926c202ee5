-- The last states of lake tables and views that this service keeps.
CREATE TABLE lake_schemas (
    lake text NOT NULL,
    name text NOT NULL,
    properties jsonb NOT NULL,
    PRIMARY KEY (lake, name)
);
CREATE TABLE lake_pointers (
    lake text NOT NULL,
    schema_name text NOT NULL,
    name text NOT NULL,
    is_view boolean NOT NULL,
    metadata text NOT NULL,
    bytes bigint NOT NULL,
    location text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (lake, schema_name, name, is_view)
);
