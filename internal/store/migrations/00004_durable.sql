-- +goose Up
-- Names are compared as they are written: neither in capitals nor with a blank behind them
-- are they another's.
ALTER TABLE content      CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE counters     CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE revisions    CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE generations  CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE asked        CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE reports      CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE newest       CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE findings     CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE tokens       CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE enrolments   CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE enrolled     CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE tasks        CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE attending    CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE surroundings CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE copies       CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE waves        CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE clouds       CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Contents are kept compressed, and in pieces that any server takes at its default packet
-- size: the first in content, the others here.
ALTER TABLE content ADD COLUMN IF NOT EXISTS packed BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE content ADD COLUMN IF NOT EXISTS pieces INT     NOT NULL DEFAULT 1;
CREATE TABLE IF NOT EXISTS pieces (
    hash BINARY(32) NOT NULL,
    n    INT        NOT NULL,
    body MEDIUMBLOB NOT NULL,
    PRIMARY KEY (hash, n)
);

-- Transactions that must not be made twice note here that they were made, so that whoever
-- lost his connection while he committed can find out.
CREATE TABLE IF NOT EXISTS made_once (
    id BINARY(16)  NOT NULL PRIMARY KEY,
    at DATETIME(6) NOT NULL,
    KEY by_time (at)
);

-- How many bytes a report brought, for the quota of its host.
ALTER TABLE reports ADD COLUMN IF NOT EXISTS size BIGINT NOT NULL DEFAULT 0;
CREATE INDEX IF NOT EXISTS by_hash  ON reports (host, hash);
CREATE INDEX IF NOT EXISTS by_time  ON reports (received_at);
CREATE INDEX IF NOT EXISTS by_day   ON reports (host, received_at, size);

CREATE INDEX IF NOT EXISTS by_revision ON pairs (revision, number);
CREATE INDEX IF NOT EXISTS by_host     ON enrolments (host, used_at);
CREATE INDEX IF NOT EXISTS by_end      ON enrolments (until);
CREATE INDEX IF NOT EXISTS by_host     ON tokens (host, revoked_at);
CREATE INDEX IF NOT EXISTS by_token    ON sessions (token);
CREATE INDEX IF NOT EXISTS by_end      ON sessions (expires_at);
CREATE INDEX IF NOT EXISTS by_end      ON tasks (until);
CREATE INDEX IF NOT EXISTS by_pair     ON findings (pair);
CREATE INDEX IF NOT EXISTS by_time     ON content (created_at, hash);

-- What hosts said that is loaded when they start.
CREATE TABLE IF NOT EXISTS boot_dumps (
    host VARCHAR(253) NOT NULL PRIMARY KEY,
    hash BINARY(32)   NOT NULL,
    KEY by_hash (hash)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
INSERT IGNORE INTO boot_dumps (host, hash) SELECT host, UNHEX(JSON_VALUE(around, '$.boot.dump')) FROM attending WHERE LENGTH(JSON_VALUE(around, '$.boot.dump')) = 64;

-- What a content is looked for by when nothing refers to it any more.
CREATE INDEX IF NOT EXISTS by_hash   ON revisions (hash);
CREATE INDEX IF NOT EXISTS by_hash   ON generations (hash);
CREATE INDEX IF NOT EXISTS by_content ON reports (hash);
CREATE INDEX IF NOT EXISTS by_result ON findings (result);

-- When what is known of a host changed, by the database's own clock: whoever keeps what is
-- known of the fleet reads what changed since.
ALTER TABLE asked     ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE CURRENT_TIMESTAMP(6);
ALTER TABLE newest    ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6);
ALTER TABLE attending ADD COLUMN IF NOT EXISTS changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6);
ALTER TABLE attending ADD COLUMN IF NOT EXISTS polled_at  DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6);
CREATE INDEX IF NOT EXISTS by_change ON asked (changed_at);
CREATE INDEX IF NOT EXISTS by_change ON newest (changed_at);
CREATE INDEX IF NOT EXISTS by_change ON attending (changed_at);
CREATE INDEX IF NOT EXISTS by_poll   ON attending (polled_at);

-- Which wave a task is of, so that what becomes of it reaches that wave alone.
ALTER TABLE tasks ADD COLUMN IF NOT EXISTS wave BIGINT NOT NULL DEFAULT 0;
-- What a list of waves shows of one, without its hosts.
ALTER TABLE waves ADD COLUMN IF NOT EXISTS summary LONGTEXT NULL;
-- A host is in one wave at a time.
CREATE TABLE IF NOT EXISTS wave_hosts (
    host VARCHAR(253) NOT NULL PRIMARY KEY,
    wave BIGINT       NOT NULL,
    KEY by_wave (wave)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- Seeds may be sealed, which takes room.
ALTER TABLE signing_keys MODIFY seed VARBINARY(100) NOT NULL;
-- Whoever changes the signing keys holds this row.
INSERT IGNORE INTO counters VALUES ('keys', 0);

-- +goose Down
DROP TABLE IF EXISTS wave_hosts, boot_dumps, made_once, pieces;
