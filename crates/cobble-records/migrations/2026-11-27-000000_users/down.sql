ALTER TABLE runs DROP COLUMN user_name;
ALTER TABLE connections DROP COLUMN sealed_credentials;
DROP TABLE users;
