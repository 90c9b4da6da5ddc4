-- +goose Up
-- What others are told of: each event is written in the transaction that it tells of, and with it
-- what is to be delivered of it.
CREATE TABLE IF NOT EXISTS events (
    number  BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
    id      CHAR(32)     NOT NULL,
    type    VARCHAR(60)  NOT NULL,
    subject VARCHAR(300) NOT NULL,
    at      DATETIME(6)  NOT NULL,
    data    MEDIUMTEXT   NOT NULL,
    KEY by_time (at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS deliveries (
    destination VARCHAR(63)  NOT NULL,
    event       BIGINT       NOT NULL,
    subject     VARCHAR(300) NOT NULL,
    state       VARCHAR(10)  NOT NULL DEFAULT 'due',  -- due, done, given up
    tries       INT          NOT NULL DEFAULT 0,
    next_at     DATETIME(6)  NOT NULL,
    said        TEXT         NOT NULL DEFAULT '',     -- why the last try failed
    done_at     DATETIME(6)  NULL,
    PRIMARY KEY (destination, event),
    KEY due (destination, state, event),
    KEY by_state (state, event),
    KEY in_order (destination, subject, state, event),
    KEY by_event (event)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- How each host was last told to stand, so that others are told when that changes.
CREATE TABLE IF NOT EXISTS host_states (
    host    VARCHAR(253) NOT NULL PRIMARY KEY,
    told    VARCHAR(20)  NOT NULL,  -- the state that was told last
    told_at DATETIME(6)  NOT NULL,
    state   VARCHAR(20)  NOT NULL,  -- as it is now
    changes INT          NOT NULL,  -- since then
    tells   INT          NOT NULL DEFAULT 0 -- how often it was told in a row
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE IF EXISTS host_states, deliveries, events;
