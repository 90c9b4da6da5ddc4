-- +goose Up
-- Who did what. Each entry is written in the transaction that does the thing; what is looked for is
-- read from the entry itself, so that neither can say otherwise.
CREATE TABLE IF NOT EXISTS record (
    number  BIGINT     NOT NULL PRIMARY KEY,
    body    MEDIUMTEXT NOT NULL,
    head    TEXT       NOT NULL,
    doer    VARCHAR(200) AS (LEFT(JSON_VALUE(body, '$.by.name'), 200)) PERSISTENT,
    deed    VARCHAR(40)  AS (LEFT(JSON_VALUE(body, '$.deed'), 40)) PERSISTENT,
    subject VARCHAR(300) AS (LEFT(JSON_VALUE(body, '$.on'), 300)) PERSISTENT,
    KEY by_doer (doer, number),
    KEY by_deed (deed, number),
    KEY by_subject (subject, number)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- The hashes of the tree over it.
CREATE TABLE IF NOT EXISTS record_hashes (
    place BIGINT     NOT NULL PRIMARY KEY,
    hash  BINARY(32) NOT NULL
);
-- The seed of the key that signs its heads; it is one for the life of the database.
CREATE TABLE IF NOT EXISTS record_keys (
    id      INT            NOT NULL PRIMARY KEY,
    seed    VARBINARY(100) NOT NULL,
    made_at DATETIME(6)    NOT NULL
);
INSERT IGNORE INTO counters VALUES ('record', 0);

-- +goose Down
DROP TABLE IF EXISTS record_keys, record_hashes, record;
