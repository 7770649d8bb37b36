-- +goose Up
ALTER TABLE snapshots ADD COLUMN keep_why TEXT NOT NULL DEFAULT '';    -- not empty: marked to keep
ALTER TABLE snapshots ADD COLUMN keep_until INTEGER NOT NULL DEFAULT 0;
ALTER TABLE snapshots ADD COLUMN marked INTEGER NOT NULL DEFAULT 0;    -- newest mark that travels
ALTER TABLE carried ADD COLUMN marked INTEGER NOT NULL DEFAULT 0;      -- newest mark that the far side knows
ALTER TABLE volumes ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;      -- since then; 0: not paused
CREATE TABLE policy_versions (
  name TEXT NOT NULL,
  version INTEGER NOT NULL,
  body TEXT NOT NULL,              -- empty: removed
  changed INTEGER NOT NULL,
  changed_by TEXT NOT NULL,
  PRIMARY KEY (name, version)
) WITHOUT ROWID;
INSERT INTO policy_versions SELECT name, version, body, changed, changed_by FROM policies;

-- +goose Down
DROP TABLE policy_versions;
ALTER TABLE volumes DROP COLUMN paused; ALTER TABLE carried DROP COLUMN marked;
ALTER TABLE snapshots DROP COLUMN marked; ALTER TABLE snapshots DROP COLUMN keep_until;
ALTER TABLE snapshots DROP COLUMN keep_why;
