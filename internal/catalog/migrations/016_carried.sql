-- +goose Up
-- What went is forgotten of every route, one snapshot after another.
CREATE INDEX carried_by_snapshot ON carried (snapshot);

-- +goose Down
DROP INDEX carried_by_snapshot;
