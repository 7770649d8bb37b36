-- +goose Up
-- Copies of other sites' disks that have an image of their own, which follows each arrival.
CREATE TABLE filled_copies (lineage TEXT PRIMARY KEY);

-- +goose Down
DROP TABLE filled_copies;
