-- +goose Up
-- How many hosts were in which state, every few minutes.
CREATE TABLE IF NOT EXISTS tallies (
    at       DATETIME(6) NOT NULL PRIMARY KEY,
    revision BIGINT      NOT NULL,
    counts   TEXT        NOT NULL  -- by state
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE IF EXISTS tallies;
