-- +goose Up
CREATE INDEX runs_by_kind ON runs (kind, id);
-- +goose Down
DROP INDEX runs_by_kind;
