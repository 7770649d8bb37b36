-- +goose Up
-- The volumes that an alarm is about, where it says the same of each; and those that were muted with it.
ALTER TABLE alarms ADD COLUMN volumes TEXT NOT NULL DEFAULT 'null';
ALTER TABLE mutes ADD COLUMN volumes TEXT NOT NULL DEFAULT 'null';

-- +goose Down
ALTER TABLE alarms DROP COLUMN volumes;
ALTER TABLE mutes DROP COLUMN volumes;
