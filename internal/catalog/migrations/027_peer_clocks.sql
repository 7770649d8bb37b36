-- +goose Up
-- By how much a peer's clock was ahead of this one's when they last spoke, in nanoseconds, and by how much that may be
-- wrong; -1: it was not measured.
ALTER TABLE peer_histories ADD COLUMN clock_ahead INTEGER NOT NULL DEFAULT 0;
ALTER TABLE peer_histories ADD COLUMN clock_within INTEGER NOT NULL DEFAULT -1;

-- +goose Down
ALTER TABLE peer_histories DROP COLUMN clock_ahead;
ALTER TABLE peer_histories DROP COLUMN clock_within;
