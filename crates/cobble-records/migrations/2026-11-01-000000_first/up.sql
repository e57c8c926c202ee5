CREATE TABLE connections (
    name text PRIMARY KEY,
    definition jsonb NOT NULL,
    -- Nonce and ciphertext; the key is in a file outside the database.
    sealed_secret bytea,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE catalogs (
    name text PRIMARY KEY,
    connection text NOT NULL REFERENCES connections (name),
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE runs (
    id text PRIMARY KEY,
    statement text NOT NULL,
    state text NOT NULL,
    error jsonb,
    plan jsonb,
    rows_out bigint NOT NULL DEFAULT 0,
    rows_read bigint NOT NULL DEFAULT 0,
    bytes_read bigint NOT NULL DEFAULT 0,
    seconds double precision NOT NULL DEFAULT 0,
    started_at timestamptz NOT NULL,
    finished_at timestamptz
);

CREATE INDEX runs_by_start ON runs (started_at DESC);
