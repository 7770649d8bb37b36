-- +goose Up
ALTER TABLE recipes ADD COLUMN disconnect INTEGER NOT NULL DEFAULT 0; -- clients of a disk, before it goes back

-- +goose Down
ALTER TABLE recipes DROP COLUMN disconnect;
