-- Settings, defined tables and what is watched, of a catalog.
ALTER TABLE catalogs ADD COLUMN definition jsonb NOT NULL DEFAULT '{}';

-- What each look for tables has found to be other than defined; goes with its catalog.
CREATE TABLE discoveries (
    id bigserial PRIMARY KEY,
    catalog text NOT NULL REFERENCES catalogs (name) ON DELETE CASCADE,
    path text NOT NULL,
    -- Somebody asked for it; otherwise it was time.
    asked boolean NOT NULL,
    changes jsonb NOT NULL,
    looked_at timestamptz NOT NULL DEFAULT now()
);

CREATE INDEX discoveries_by_catalog ON discoveries (catalog, id DESC);
