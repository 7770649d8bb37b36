-- +goose Up
-- The highest place in a history that a snapshot had which is gone, so that none after it takes it again.
ALTER TABLE histories ADD COLUMN gone_term INTEGER NOT NULL DEFAULT 0;
ALTER TABLE histories ADD COLUMN gone_sequence INTEGER NOT NULL DEFAULT 0;
-- +goose StatementBegin
CREATE TRIGGER place_of_gone AFTER DELETE ON snapshots BEGIN
  INSERT INTO histories (lineage, gone_term, gone_sequence) VALUES (OLD.lineage, OLD.term, OLD.sequence)
    ON CONFLICT (lineage) DO UPDATE SET gone_term=excluded.gone_term, gone_sequence=excluded.gone_sequence
    WHERE (excluded.gone_term, excluded.gone_sequence) > (gone_term, gone_sequence);
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER place_of_gone;
ALTER TABLE histories DROP COLUMN gone_term;
ALTER TABLE histories DROP COLUMN gone_sequence;
