-- +goose Up
-- The build that a peer said it runs, when it was last spoken to; empty: it did not say.
ALTER TABLE peer_histories ADD COLUMN release TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE peer_histories DROP COLUMN release;
