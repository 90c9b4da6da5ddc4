-- +goose Up
-- Changes that others approve before they are published, and who approved what of them: an approval
-- is of one meaning, and of no other that the proposal may come to have.
CREATE TABLE IF NOT EXISTS proposals (
    number     BIGINT       NOT NULL PRIMARY KEY,
    author     VARCHAR(200) NOT NULL,
    why        TEXT         NOT NULL,
    state      VARCHAR(20)  NOT NULL,
    pair       BIGINT       NOT NULL,               -- that it starts from
    files      BINARY(32)   NOT NULL,
    fleet      BINARY(32)   NULL,
    accept     LONGTEXT     NOT NULL,
    made_at    DATETIME(6)  NOT NULL,
    changed_at DATETIME(6)  NOT NULL,
    decided_at DATETIME(6)  NULL,
    decided_by VARCHAR(200) NOT NULL DEFAULT '',
    decided    TEXT         NOT NULL DEFAULT '',    -- why
    revision   BIGINT       NOT NULL DEFAULT 0,     -- as which it was published
    KEY by_state (state, number),
    KEY by_files (files),
    KEY by_fleet (fleet)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS approvals (
    proposal BIGINT       NOT NULL,
    name     VARCHAR(200) NOT NULL,
    sum      VARCHAR(100) NOT NULL,                 -- of the meaning that is approved
    roles    VARCHAR(2000) NULL,                    -- for which he may approve; NULL is the whole fleet
    note     TEXT         NOT NULL,
    at       DATETIME(6)  NOT NULL,
    PRIMARY KEY (proposal, name)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
INSERT IGNORE INTO counters VALUES ('proposals', 0);

-- +goose Down
DROP TABLE IF EXISTS approvals, proposals;
