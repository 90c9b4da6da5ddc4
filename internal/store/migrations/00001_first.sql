-- +goose Up
-- Every statement of a migration can be repeated: whoever runs it may be killed between any two.

-- Everything that has content is stored once, under its hash.
CREATE TABLE IF NOT EXISTS content (
    hash       BINARY(32)  NOT NULL PRIMARY KEY,
    body       LONGBLOB    NOT NULL,
    created_at DATETIME(6) NOT NULL
);
-- The last number given in each series that must have no gap; whoever takes the
-- next holds the row until his transaction ends.
CREATE TABLE IF NOT EXISTS counters (
    name  VARCHAR(20) NOT NULL PRIMARY KEY,
    value BIGINT      NOT NULL
);
INSERT IGNORE INTO counters VALUES ('revisions', 0), ('generations', 0), ('pairs', 0);
CREATE TABLE IF NOT EXISTS revisions (
    number       BIGINT       NOT NULL PRIMARY KEY,
    author       VARCHAR(100) NOT NULL,
    why          TEXT         NOT NULL,
    published_at DATETIME(6)  NOT NULL,
    hash         BINARY(32)   NOT NULL
);
CREATE TABLE IF NOT EXISTS generations (
    number      BIGINT       NOT NULL PRIMARY KEY,
    author      VARCHAR(100) NOT NULL,
    why         TEXT         NOT NULL,
    imported_at DATETIME(6)  NOT NULL,
    hash        BINARY(32)   NOT NULL
);
-- What is published is a pair: a revision with a generation of the fleet.
CREATE TABLE IF NOT EXISTS pairs (
    number     BIGINT      NOT NULL PRIMARY KEY,
    revision   BIGINT      NOT NULL,
    generation BIGINT      NOT NULL,
    made_at    DATETIME(6) NOT NULL
);
-- The pair a host was last asked to settle, and the one before.
CREATE TABLE IF NOT EXISTS asked (
    host     VARCHAR(253) NOT NULL PRIMARY KEY,
    pair     BIGINT       NOT NULL,
    previous BIGINT       NOT NULL DEFAULT 0,
    asked_at DATETIME(6)  NOT NULL
);
CREATE TABLE IF NOT EXISTS reports (
    id          BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
    host        VARCHAR(253) NOT NULL,
    taken_at    DATETIME(6)  NOT NULL,
    received_at DATETIME(6)  NOT NULL,
    hash        BINARY(32)   NOT NULL, -- of the dumps
    KEY by_host (host, id)
);
-- Which report is a host's newest: one row to read for each host.
CREATE TABLE IF NOT EXISTS newest (
    host   VARCHAR(253) NOT NULL PRIMARY KEY,
    report BIGINT       NOT NULL
);
-- What a dump means when held against a pair; the same dump is judged once.
CREATE TABLE IF NOT EXISTS findings (
    host   VARCHAR(253) NOT NULL,
    dump   BINARY(32)   NOT NULL,
    pair   BIGINT       NOT NULL,
    result BINARY(32)   NOT NULL,
    PRIMARY KEY (host, dump, pair)
);
CREATE TABLE IF NOT EXISTS tokens (
    id         BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name       VARCHAR(100) NOT NULL,
    rights     VARCHAR(200) NOT NULL,
    host       VARCHAR(253) NOT NULL DEFAULT '',
    hash       BINARY(32)   NOT NULL UNIQUE,
    created_at DATETIME(6)  NOT NULL,
    revoked_at DATETIME(6)  NULL
);
CREATE TABLE IF NOT EXISTS sessions (
    hash       BINARY(32)  NOT NULL PRIMARY KEY,
    token      BIGINT      NOT NULL,
    expires_at DATETIME(6) NOT NULL
);

-- +goose Down
DROP TABLE IF EXISTS sessions, tokens, findings, newest, reports, asked, pairs, generations, revisions, counters, content;
