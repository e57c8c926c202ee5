DELETE FROM table_statistics WHERE owner <> '';
ALTER TABLE table_statistics DROP CONSTRAINT table_statistics_pkey;
ALTER TABLE table_statistics ADD PRIMARY KEY (catalog, schema_name, table_name);
ALTER TABLE table_statistics DROP COLUMN owner;
ALTER TABLE runs DROP COLUMN user_id;
ALTER TABLE users DROP COLUMN expires_at;
ALTER TABLE users DROP COLUMN role;
ALTER TABLE users DROP COLUMN id;
