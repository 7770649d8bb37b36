-- +goose Up
-- What a place could bring back from when on; kept longer than the snapshots, for reports.
CREATE TABLE states (
  volume TEXT NOT NULL,
  place TEXT NOT NULL,
  known INTEGER NOT NULL,          -- from then on
  state INTEGER NOT NULL,          -- as it was at
  PRIMARY KEY (volume, place, known)
) WITHOUT ROWID;
INSERT OR IGNORE INTO states SELECT volume, place, CASE WHEN arrived>0 THEN arrived ELSE ended END, began
  FROM snapshots;

-- +goose Down
DROP TABLE states;
