-- +goose Up
-- What each host counted and saw: how often statements decided, what was refused, and which
-- connections there were. The parts are apart, since whoever asks wants one of them.
CREATE TABLE IF NOT EXISTS traffic (
    host       VARCHAR(253) NOT NULL PRIMARY KEY,
    told_at    DATETIME(6)  NOT NULL,
    counted    LONGTEXT     NOT NULL,
    refused    LONGTEXT     NOT NULL,
    seen       LONGTEXT     NOT NULL,
    KEY by_time (told_at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;

-- +goose Down
DROP TABLE IF EXISTS traffic;
