-- +goose Up
-- Sessions of people who signed in through the identity provider; token is 0 then.
ALTER TABLE sessions ADD COLUMN IF NOT EXISTS person  VARCHAR(200) NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN IF NOT EXISTS subject VARCHAR(300) NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN IF NOT EXISTS claims  TEXT         NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sessions DROP COLUMN IF EXISTS person, DROP COLUMN IF EXISTS subject, DROP COLUMN IF EXISTS claims;
