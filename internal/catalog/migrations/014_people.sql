-- +goose Up
CREATE TABLE people (
  name TEXT PRIMARY KEY, role TEXT NOT NULL, secret TEXT NOT NULL, uid INTEGER NOT NULL, gids TEXT NOT NULL,
  grants TEXT NOT NULL, made INTEGER NOT NULL
) STRICT;
CREATE TABLE sessions (
  hash TEXT PRIMARY KEY, person TEXT NOT NULL REFERENCES people (name) ON DELETE CASCADE, made INTEGER NOT NULL,
  used INTEGER NOT NULL
) STRICT;
ALTER TABLE tokens ADD COLUMN person TEXT NOT NULL DEFAULT '';
CREATE TABLE ledger (
  n INTEGER PRIMARY KEY, at INTEGER NOT NULL, who TEXT NOT NULL, role TEXT NOT NULL, via TEXT NOT NULL,
  act TEXT NOT NULL, about TEXT NOT NULL, outcome TEXT NOT NULL, sum BLOB NOT NULL
) STRICT;
-- +goose StatementBegin
CREATE TRIGGER ledger_stays BEFORE UPDATE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is only added to'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER ledger_keeps BEFORE DELETE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is only added to'); END;
-- +goose StatementEnd
-- +goose Down
DROP TABLE ledger;
DROP TABLE sessions;
DROP TABLE people;
ALTER TABLE tokens DROP COLUMN person;
