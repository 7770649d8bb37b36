-- +goose Up
-- Directories of machines that do not run the service, where the newest states of volumes are laid out.
CREATE TABLE outlets (
  name TEXT PRIMARY KEY,
  user TEXT NOT NULL,
  address TEXT NOT NULL,               -- host:port
  dir TEXT NOT NULL,                   -- absolute, there
  host_key TEXT NOT NULL,              -- as in a file of known hosts: kind and base64
  volumes TEXT NOT NULL,
  cap INTEGER NOT NULL,                -- bytes a second; 0: none
  made INTEGER NOT NULL,
  paused INTEGER NOT NULL DEFAULT 0,
  last_ok INTEGER NOT NULL DEFAULT 0,
  failing_since INTEGER NOT NULL DEFAULT 0,
  failures INTEGER NOT NULL DEFAULT 0,
  next_try INTEGER NOT NULL DEFAULT 0,
  last_error TEXT NOT NULL DEFAULT '',
  last_cause TEXT NOT NULL DEFAULT ''  -- unreachable, refused, failed
) WITHOUT ROWID;
-- What lies there of each volume.
CREATE TABLE laid_out (
  outlet TEXT NOT NULL REFERENCES outlets (name) ON DELETE CASCADE,
  lineage TEXT NOT NULL,
  snapshot TEXT NOT NULL,              -- that lies there whole; empty: none
  bases TEXT NOT NULL,                 -- snapshots of which something may lie there
  at INTEGER NOT NULL,                 -- since when it lies there whole
  verified INTEGER NOT NULL,           -- when all of it was last read back
  error TEXT NOT NULL,                 -- why it is not up to date; empty: it is, or was not tried yet
  PRIMARY KEY (outlet, lineage)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE laid_out; DROP TABLE outlets;
