-- +goose Up
-- The clouds that services are connected to: which of the services looks after one now,
-- and how it stands. What instances are asked for stands in asked, under HOST@CLOUD, and
-- what clouds say is in force for them in reports.
CREATE TABLE IF NOT EXISTS clouds (
    name   VARCHAR(63) NOT NULL PRIMARY KEY,
    holder VARCHAR(64) NOT NULL,
    until  DATETIME(6) NOT NULL,
    state  LONGTEXT    NOT NULL
);

-- +goose Down
DROP TABLE IF EXISTS clouds;
