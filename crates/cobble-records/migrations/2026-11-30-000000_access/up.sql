-- Users have an id that is never given again, a role, and a token that may expire.
ALTER TABLE users ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY UNIQUE;
ALTER TABLE users ADD COLUMN role text NOT NULL DEFAULT 'user' CHECK (role IN ('administrator', 'user'));
ALTER TABLE users ADD COLUMN expires_at timestamptz;

-- A run belongs to a user, not to a name.
ALTER TABLE runs ADD COLUMN user_id bigint;
UPDATE runs SET user_id = users.id FROM users WHERE users.name = runs.user_name;

-- What ANALYZE has found with a user's own credentials is that user's; all else has no owner.
ALTER TABLE table_statistics ADD COLUMN owner text NOT NULL DEFAULT '';
ALTER TABLE table_statistics DROP CONSTRAINT table_statistics_pkey;
ALTER TABLE table_statistics ADD PRIMARY KEY (catalog, schema_name, table_name, owner);
