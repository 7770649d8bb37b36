-- +goose Up
CREATE INDEX snapshots_by_position ON snapshots (lineage, place, term DESC, sequence DESC);

-- +goose Down
DROP INDEX snapshots_by_position;
