-- +goose Up
-- Times are nanoseconds since 1970 in UTC; 0 is "never". JSON columns hold objects or lists.
CREATE TABLE volumes (
  name TEXT PRIMARY KEY,
  lineage TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL,
  origin TEXT NOT NULL,            -- site that takes its snapshots
  path TEXT NOT NULL,              -- on that site's host
  labels TEXT NOT NULL,
  excludes TEXT NOT NULL,
  chunk_avg INTEGER NOT NULL,
  added INTEGER NOT NULL,
  protected INTEGER NOT NULL,      -- 0: removed, its snapshots stay
  scheduled_until INTEGER NOT NULL, -- due times up to here are settled
  proposed TEXT NOT NULL           -- rules proposed by the origin for this place, YAML
);
CREATE TABLE snapshots (
  id TEXT NOT NULL,
  place TEXT NOT NULL,
  volume TEXT NOT NULL,
  lineage TEXT NOT NULL,
  origin TEXT NOT NULL,
  term INTEGER NOT NULL,
  sequence INTEGER NOT NULL,
  began INTEGER NOT NULL,
  ended INTEGER NOT NULL,
  seen_until INTEGER NOT NULL,
  cause TEXT NOT NULL,
  consistency TEXT NOT NULL,
  files INTEGER NOT NULL,
  dirs INTEGER NOT NULL,
  others INTEGER NOT NULL,
  bytes INTEGER NOT NULL,
  stored INTEGER NOT NULL,         -- bytes of records that came with it
  remarks INTEGER NOT NULL,
  note TEXT NOT NULL,
  labels TEXT NOT NULL,
  own_end INTEGER NOT NULL,
  recalled_until INTEGER NOT NULL,
  arrived INTEGER NOT NULL,
  grace_until INTEGER NOT NULL,    -- not 0: expired, in grace until then
  let_go TEXT NOT NULL,
  PRIMARY KEY (place, id)
) WITHOUT ROWID;
CREATE INDEX snapshots_by_volume ON snapshots (volume, place, began DESC, id);
CREATE INDEX snapshots_by_grace ON snapshots (grace_until) WHERE grace_until > 0;
CREATE INDEX snapshots_by_id ON snapshots (id);
CREATE TABLE policies (
  name TEXT PRIMARY KEY,
  body TEXT NOT NULL,
  version INTEGER NOT NULL,
  changed INTEGER NOT NULL,
  changed_by TEXT NOT NULL
);
CREATE TABLE gaps (
  volume TEXT NOT NULL,
  due INTEGER NOT NULL,
  cause TEXT NOT NULL,
  PRIMARY KEY (volume, due)
) WITHOUT ROWID;
CREATE TABLE runs (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  state TEXT NOT NULL,
  queued INTEGER NOT NULL,
  began INTEGER NOT NULL,
  ended INTEGER NOT NULL,
  asked_by TEXT NOT NULL,
  outcome TEXT NOT NULL,
  progress TEXT NOT NULL,
  result TEXT NOT NULL
);
CREATE INDEX runs_by_state ON runs (state, id);
CREATE TABLE run_log (
  run INTEGER NOT NULL,
  line INTEGER NOT NULL,
  at INTEGER NOT NULL,
  text TEXT NOT NULL,
  PRIMARY KEY (run, line)
) WITHOUT ROWID;
CREATE TABLE peers (
  name TEXT PRIMARY KEY,
  key TEXT NOT NULL UNIQUE,
  addresses TEXT NOT NULL,
  paired INTEGER NOT NULL,
  seen INTEGER NOT NULL
);
CREATE TABLE invitations (
  hash TEXT PRIMARY KEY,
  made INTEGER NOT NULL,
  ends INTEGER NOT NULL,
  used INTEGER NOT NULL,
  used_by TEXT NOT NULL
);
CREATE TABLE routes (
  name TEXT PRIMARY KEY,
  peer TEXT NOT NULL,
  volumes TEXT NOT NULL,           -- labels or names
  made INTEGER NOT NULL,
  last_ok INTEGER NOT NULL,
  failing_since INTEGER NOT NULL,
  failures INTEGER NOT NULL,
  next_try INTEGER NOT NULL,
  last_error TEXT NOT NULL,
  sent_bytes INTEGER NOT NULL,
  saved_bytes INTEGER NOT NULL
);
CREATE TABLE carried (
  route TEXT NOT NULL,
  snapshot TEXT NOT NULL,
  at INTEGER NOT NULL,
  seen_until INTEGER NOT NULL,     -- the sighting that the far side knows
  PRIMARY KEY (route, snapshot)
) WITHOUT ROWID;
CREATE TABLE tokens (
  name TEXT PRIMARY KEY,
  hash TEXT NOT NULL UNIQUE,
  made INTEGER NOT NULL,
  used INTEGER NOT NULL
);
CREATE TABLE settings (
  key TEXT PRIMARY KEY,
  value TEXT NOT NULL
);
CREATE TABLE answers (
  key TEXT PRIMARY KEY,            -- idempotency key with method and path
  at INTEGER NOT NULL,
  status INTEGER NOT NULL,
  kind TEXT NOT NULL,
  body BLOB NOT NULL
);

-- +goose Down
DROP TABLE answers; DROP TABLE settings; DROP TABLE tokens; DROP TABLE carried; DROP TABLE routes;
DROP TABLE invitations;
DROP TABLE peers; DROP TABLE run_log; DROP TABLE runs; DROP TABLE gaps; DROP TABLE policies; DROP TABLE snapshots;
DROP TABLE volumes;
