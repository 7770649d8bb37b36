-- +goose Up
-- How times are shown to who looks at the console.
CREATE TABLE times (
  who TEXT PRIMARY KEY,  -- "person NAME", or "caller NAME" of who is no person
  zone TEXT NOT NULL,    -- empty: of the machine that shows them
  dates TEXT NOT NULL    -- year first, day first, month first
) WITHOUT ROWID;
-- +goose Down
DROP TABLE times;
