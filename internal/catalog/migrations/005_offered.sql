-- +goose Up
-- Rules that the origin proposes and that would keep less here: until a person accepts
-- them, what either they or the proposed ones keep is kept.
ALTER TABLE volumes ADD COLUMN offered TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE volumes DROP COLUMN offered;
