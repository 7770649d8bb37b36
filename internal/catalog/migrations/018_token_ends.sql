-- +goose Up
-- A token lets in until its end; 0: until it is removed.
ALTER TABLE tokens ADD COLUMN until INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE tokens DROP COLUMN until;
