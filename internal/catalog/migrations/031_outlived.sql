-- +goose Up
-- Snapshots that no rule keeps and that are here nevertheless: counted at each pruning, with since when there are some.
CREATE TABLE outlived (
  volume TEXT NOT NULL,
  cause TEXT NOT NULL,                 -- owed, in use, ahead, held
  place TEXT NOT NULL,                 -- to which they are owed
  snapshots INTEGER NOT NULL,
  since INTEGER NOT NULL,
  PRIMARY KEY (volume, cause, place)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE outlived;
