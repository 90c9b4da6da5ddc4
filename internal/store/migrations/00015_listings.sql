-- +goose Up
-- What a cloud had when it was last read: its groups, and who is in them.
CREATE TABLE IF NOT EXISTS cloud_listings (
    cloud VARCHAR(100) NOT NULL PRIMARY KEY,
    body  MEDIUMBLOB   NOT NULL
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE IF EXISTS cloud_listings;
