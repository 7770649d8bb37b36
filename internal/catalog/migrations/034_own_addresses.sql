-- +goose Up
-- Where people here say that a site is reached, beside what it says of itself; tried first.
ALTER TABLE peers ADD COLUMN own_addresses TEXT NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE peers DROP COLUMN own_addresses;
