-- +goose Up
CREATE INDEX runs_of_subject ON runs (kind, subject, state, id);
-- +goose Down
DROP INDEX runs_of_subject;
