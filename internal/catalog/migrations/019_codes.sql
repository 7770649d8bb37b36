-- +goose Up
-- Why something is so is a code beside the words: why a route waits, why a snapshot goes, of which
-- branch of its history it arrived.
ALTER TABLE routes ADD COLUMN last_cause TEXT NOT NULL DEFAULT '';
UPDATE routes SET last_cause = CASE
    WHEN last_error = '' THEN ''
    WHEN failures = 0 THEN 'pace'
    WHEN last_error LIKE '%it is detached%' THEN 'detached'
    WHEN last_error LIKE '%cannot be reached%' THEN 'unreachable'
    WHEN last_error LIKE '%nothing more is taken in: %' THEN 'full'
    ELSE 'failed' END;
ALTER TABLE snapshots ADD COLUMN let_go_cause TEXT NOT NULL DEFAULT '';
UPDATE snapshots SET let_go_cause = CASE
    WHEN let_go = 'removed by hand' THEN 'hand'
    WHEN let_go LIKE 'over the cap of %' THEN 'cap'
    WHEN let_go LIKE 'removed for room%' THEN 'room'
    ELSE 'rules' END
    WHERE let_go <> '';
ALTER TABLE snapshots ADD COLUMN branch TEXT NOT NULL DEFAULT '';
UPDATE snapshots SET branch = substr(out_of_turn, 21, instr(substr(out_of_turn, 21), ' of the history') - 1)
    WHERE out_of_turn LIKE 'it is of the branch % of the history%';

-- +goose Down
ALTER TABLE snapshots DROP COLUMN branch;
ALTER TABLE snapshots DROP COLUMN let_go_cause;
ALTER TABLE routes DROP COLUMN last_cause;
