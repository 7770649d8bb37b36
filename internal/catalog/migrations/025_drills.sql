-- +goose Up
-- The drill for which a clone was made, and with which it goes.
ALTER TABLE clones ADD COLUMN drill TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE clones DROP COLUMN drill;
