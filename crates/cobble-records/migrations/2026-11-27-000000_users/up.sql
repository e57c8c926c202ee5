-- Who may sign in to the service. Only a digest of a token is kept.
CREATE TABLE users (
    name text PRIMARY KEY,
    token_digest bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- The secrets that users have of their own at a system, sealed together.
ALTER TABLE connections ADD COLUMN sealed_credentials bytea;

-- Who a run belongs to, when somebody had signed in.
ALTER TABLE runs ADD COLUMN user_name text;
