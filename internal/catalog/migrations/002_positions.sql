-- +goose Up
CREATE INDEX snapshots_by_position ON snapshots (lineage, place, term DESC, sequence DESC);
CREATE INDEX snapshots_by_state ON snapshots (place, volume, grace_until);

-- +goose Down
DROP INDEX snapshots_by_state; DROP INDEX snapshots_by_position;
