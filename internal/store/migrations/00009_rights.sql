-- +goose Up
-- Tokens have an end, and say what they are for. When one was last used is noted now and then.
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS ends_at DATETIME(6)  NULL;
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS used_at DATETIME(6)  NULL;
ALTER TABLE tokens ADD COLUMN IF NOT EXISTS purpose VARCHAR(300) NOT NULL DEFAULT '';
ALTER TABLE tokens MODIFY rights VARCHAR(2000) NOT NULL;
-- Whoever could publish or settle goes on to be able to do all that this was.
UPDATE tokens SET rights = CONCAT(rights, ',propose') WHERE FIND_IN_SET('publish', rights) AND NOT FIND_IN_SET('propose', rights);
UPDATE tokens SET rights = CONCAT(rights, ',pause') WHERE FIND_IN_SET('settle', rights) AND NOT FIND_IN_SET('pause', rights);
UPDATE tokens SET rights = CONCAT(rights, ',approve') WHERE FIND_IN_SET('publish', rights) AND FIND_IN_SET('tokens', rights) AND NOT FIND_IN_SET('approve', rights);
CREATE INDEX IF NOT EXISTS by_end ON tokens (ends_at);

-- +goose Down
ALTER TABLE tokens DROP COLUMN IF EXISTS ends_at, DROP COLUMN IF EXISTS used_at, DROP COLUMN IF EXISTS purpose;
