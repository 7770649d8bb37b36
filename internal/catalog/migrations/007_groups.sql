-- +goose Up
-- Volumes that are snapshotted as one set, and the sets. A hidden snapshot waits for the
-- rest of its set to arrive.
CREATE TABLE groups (
    name    TEXT PRIMARY KEY,
    members TEXT NOT NULL,
    freeze  TEXT NOT NULL DEFAULT '',
    thaw    TEXT NOT NULL DEFAULT '',
    failing TEXT NOT NULL DEFAULT ''
);
ALTER TABLE snapshots ADD COLUMN set_id TEXT NOT NULL DEFAULT '';
ALTER TABLE snapshots ADD COLUMN set_name TEXT NOT NULL DEFAULT '';
ALTER TABLE snapshots ADD COLUMN hidden INTEGER NOT NULL DEFAULT 0;
CREATE INDEX snapshots_set ON snapshots (set_id) WHERE set_id <> '';

-- +goose Down
DROP INDEX snapshots_set;
ALTER TABLE snapshots DROP COLUMN hidden;
ALTER TABLE snapshots DROP COLUMN set_name;
ALTER TABLE snapshots DROP COLUMN set_id;
DROP TABLE groups;
