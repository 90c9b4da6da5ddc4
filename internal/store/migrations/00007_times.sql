-- +goose Up
-- A report that says what the one before it said leaves a time. When a host first said it is kept
-- beside that, so that it is known what was in force at any time.
ALTER TABLE reports ADD COLUMN IF NOT EXISTS began_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6);
UPDATE reports SET began_at = received_at WHERE began_at > received_at;
CREATE INDEX IF NOT EXISTS by_begin ON reports (host, began_at);
CREATE INDEX IF NOT EXISTS by_time  ON pairs (made_at);

-- +goose Down
ALTER TABLE reports DROP COLUMN IF EXISTS began_at;
