-- What CREATE VIEW has made.
CREATE TABLE views (
    name text PRIMARY KEY,
    definition jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
