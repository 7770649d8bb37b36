-- +goose Up
-- Snapshots of all volumes are listed newest first.
CREATE INDEX snapshots_by_time ON snapshots (place, began DESC, id);

-- +goose Down
DROP INDEX snapshots_by_time;
