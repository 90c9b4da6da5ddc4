-- +goose Up
-- A result also tells what somebody changed from what is not settled yet: it is of the pair
-- that the host was last asked to settle, too; 0 where that is the same, or none.
ALTER TABLE findings ADD COLUMN IF NOT EXISTS asked BIGINT NOT NULL DEFAULT 0;
ALTER TABLE findings DROP PRIMARY KEY, ADD PRIMARY KEY (host, dump, pair, asked);

-- A pair that nobody asked for: what was told of hosts, or read from elsewhere, is otherwise.
ALTER TABLE pairs ADD COLUMN IF NOT EXISTS by_itself BOOLEAN NOT NULL DEFAULT FALSE;

-- The problems in spite of which a revision was published, which do not stand in the way of
-- what comes later either.
ALTER TABLE revisions ADD COLUMN IF NOT EXISTS accepted LONGTEXT NULL;

-- +goose Down
ALTER TABLE pairs DROP COLUMN IF EXISTS by_itself;
