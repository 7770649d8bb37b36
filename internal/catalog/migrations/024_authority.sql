-- +goose Up
-- Which site takes a volume's snapshots and serves it: the records of authority in the store decide, this follows them.
ALTER TABLE volumes ADD COLUMN active TEXT NOT NULL DEFAULT '';
UPDATE volumes SET active = origin;
-- Who took a snapshot, where that is not the site that the history began at; and until when one stays that was left
-- behind when another site took over.
ALTER TABLE snapshots ADD COLUMN taken_by TEXT NOT NULL DEFAULT '';
ALTER TABLE snapshots ADD COLUMN left_until INTEGER NOT NULL DEFAULT 0;
CREATE INDEX snapshots_left_behind ON snapshots (place, volume) WHERE left_until > 0;
-- What this site gave up, and how far it has come with standing back.
CREATE TABLE stand_backs (
    lineage TEXT PRIMARY KEY,
    term INTEGER NOT NULL,      -- in which another site is active
    site TEXT NOT NULL,
    since INTEGER NOT NULL,
    hook TEXT NOT NULL,         -- '', 'done', or why it failed
    quiet_since INTEGER NOT NULL, -- nothing was written since then; 0: not known yet
    confirmed INTEGER NOT NULL, -- when it was certain that nobody writes any more; 0: it is not
    kept TEXT NOT NULL          -- the snapshot of what was there and nobody has; '': none yet, 'none': nothing was
);
-- Histories of which it is not known who is active, until a person has said it or other sites have.
CREATE TABLE authority_doubts (lineage TEXT PRIMARY KEY, since INTEGER NOT NULL, cause TEXT NOT NULL);
CREATE TABLE runbooks (
    name TEXT PRIMARY KEY, body TEXT NOT NULL, version INTEGER NOT NULL, changed INTEGER NOT NULL,
    changed_by TEXT NOT NULL
);
CREATE TABLE runbook_versions (
    name TEXT NOT NULL, version INTEGER NOT NULL, body TEXT NOT NULL, changed INTEGER NOT NULL,
    changed_by TEXT NOT NULL,
    PRIMARY KEY (name, version)
);
-- Moves of the active side, and drills: what is done and what is next is durable before it is done.
CREATE TABLE failovers (
    id TEXT PRIMARY KEY,
    kind TEXT NOT NULL,        -- planned, unplanned, failback, drill; hand-over: the other end of a planned one
    runbook TEXT NOT NULL,
    peer TEXT NOT NULL,        -- the site that was active before, or that takes over
    state TEXT NOT NULL,       -- running, waiting, done, failed, cancelled
    began INTEGER NOT NULL,
    ended INTEGER NOT NULL,
    asked_by TEXT NOT NULL,
    run INTEGER NOT NULL,
    doc TEXT NOT NULL
);
CREATE INDEX failovers_by_time ON failovers (began DESC, id);

-- +goose Down
DROP TABLE failovers;
DROP TABLE runbook_versions;
DROP TABLE runbooks;
DROP TABLE authority_doubts;
DROP TABLE stand_backs;
DROP INDEX snapshots_left_behind;
ALTER TABLE snapshots DROP COLUMN left_until;
ALTER TABLE snapshots DROP COLUMN taken_by;
ALTER TABLE volumes DROP COLUMN active;
