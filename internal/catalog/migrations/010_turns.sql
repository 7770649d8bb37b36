-- +goose Up
-- Why a snapshot that came from elsewhere displaces nothing yet; empty: it counts.
ALTER TABLE snapshots ADD COLUMN out_of_turn TEXT NOT NULL DEFAULT '';
CREATE INDEX snapshots_by_turn ON snapshots (place, volume) WHERE out_of_turn <> '';

-- +goose Down
DROP INDEX snapshots_by_turn;
ALTER TABLE snapshots DROP COLUMN out_of_turn;
