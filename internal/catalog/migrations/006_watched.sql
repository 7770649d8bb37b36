-- +goose Up
-- Up to when a snapshot's volume was watched without a change, not only looked at.
ALTER TABLE snapshots ADD COLUMN watched_until INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE snapshots DROP COLUMN watched_until;
