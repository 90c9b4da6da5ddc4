-- +goose Up
-- Requests that came with a key, so that the same one sent again is not done twice.
CREATE TABLE IF NOT EXISTS keyed (
    id     BINARY(32)  NOT NULL PRIMARY KEY, -- of who asks, and his key
    at     DATETIME(6) NOT NULL,
    holder CHAR(26)    NOT NULL,             -- which attempt is at work, or was
    until  DATETIME(6) NOT NULL,             -- that it holds the request, unless it goes on
    deed   BIGINT      NULL,                 -- the entry of the record that it made last
    hash   BINARY(32)  NULL,                 -- of the request, when it was read
    status INT         NULL,                 -- what was answered; with it the request is over
    body   MEDIUMBLOB  NULL,                 -- unless it is too long, or holds a secret
    KEY by_time (at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE INDEX IF NOT EXISTS by_token ON sessions (token, expires_at);
CREATE INDEX IF NOT EXISTS by_generation ON pairs (generation);

-- +goose Down
DROP INDEX IF EXISTS by_token ON sessions;
DROP INDEX IF EXISTS by_generation ON pairs;
DROP TABLE IF EXISTS keyed;
