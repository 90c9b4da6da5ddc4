-- +goose Up
-- The keys that the service signs with, which all its replicas share. The oldest
-- that is not retired signs; later ones are told to hosts before they are used.
CREATE TABLE IF NOT EXISTS signing_keys (
    id         BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
    seed       BINARY(32)   NOT NULL,
    made_at    DATETIME(6)  NOT NULL,
    retired_at DATETIME(6)  NULL
);
-- One-time tokens, each for a new host.
CREATE TABLE IF NOT EXISTS enrolments (
    hash    BINARY(32)   NOT NULL PRIMARY KEY,
    host    VARCHAR(253) NOT NULL,
    until   DATETIME(6)  NOT NULL,
    used_at DATETIME(6)  NULL
);
-- What a host said of itself when it enrolled.
CREATE TABLE IF NOT EXISTS enrolled (
    host        VARCHAR(253) NOT NULL PRIMARY KEY,
    enrolled_at DATETIME(6)  NOT NULL,
    about       LONGTEXT     NOT NULL
);
-- What hosts are asked to do.
CREATE TABLE IF NOT EXISTS tasks (
    id      BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
    host    VARCHAR(253) NOT NULL,
    task    LONGTEXT     NOT NULL,
    until   DATETIME(6)  NOT NULL,
    done_at DATETIME(6)  NULL,
    result  LONGTEXT     NULL,
    KEY open_of_host (host, done_at)
);
-- How the last change on a host stands, and when the host last asked what there is to do.
CREATE TABLE IF NOT EXISTS attending (
    host       VARCHAR(253) NOT NULL PRIMARY KEY,
    asked_at   DATETIME(6)  NULL,
    pair       BIGINT       NOT NULL DEFAULT 0, -- that the change puts in force
    change_now LONGTEXT     NULL,
    failed     LONGTEXT     NULL,               -- why the last settle could not be made
    told_at    DATETIME(6)  NULL,
    around     LONGTEXT     NULL                -- what it said is loaded when it starts, and of its addresses
);
-- What a host last said of itself besides its rules.
CREATE TABLE IF NOT EXISTS surroundings (
    host     VARCHAR(253) NOT NULL PRIMARY KEY,
    taken_at DATETIME(6)  NOT NULL,
    body     LONGTEXT     NOT NULL,
    counts   LONGTEXT     NULL                  -- what counters stood at
);
CREATE TABLE IF NOT EXISTS copies (
    host   VARCHAR(253) NOT NULL,
    number INT          NOT NULL,
    note   LONGTEXT     NOT NULL,
    PRIMARY KEY (host, number)
);
-- Waves. A step of one is one transaction, tasks included, so that it does not matter
-- which service takes it, nor whether two try.
CREATE TABLE IF NOT EXISTS waves (
    number  BIGINT   NOT NULL PRIMARY KEY,
    state   LONGTEXT NOT NULL,
    running BOOLEAN  NOT NULL,
    KEY which_run (running)
);
INSERT IGNORE INTO counters VALUES ('waves', 0);

-- +goose Down
DROP TABLE IF EXISTS waves, copies, surroundings, attending, tasks, enrolled, enrolments, signing_keys;
