-- +goose Up
-- What is granted to a peer and by it, its pace, the keys it had.
ALTER TABLE peers ADD COLUMN grants TEXT NOT NULL DEFAULT '{"offer":true,"see":true}';
ALTER TABLE peers ADD COLUMN granted TEXT NOT NULL DEFAULT '{}';
ALTER TABLE peers ADD COLUMN pace TEXT NOT NULL DEFAULT '{}';
ALTER TABLE peers ADD COLUMN former TEXT NOT NULL DEFAULT '[]';
ALTER TABLE peers ADD COLUMN next_key TEXT NOT NULL DEFAULT ''; -- that it announced to use from now on
ALTER TABLE routes ADD COLUMN terms TEXT NOT NULL DEFAULT '{}';
ALTER TABLE routes ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;
ALTER TABLE routes ADD COLUMN last_run INTEGER NOT NULL DEFAULT 0;
ALTER TABLE routes ADD COLUMN known TEXT NOT NULL DEFAULT '[]';
ALTER TABLE invitations ADD COLUMN grants TEXT NOT NULL DEFAULT '{"offer":true,"see":true}';
-- The key that signs a volume's snapshots where its origin is not paired.
ALTER TABLE volumes ADD COLUMN signer TEXT NOT NULL DEFAULT '';
-- What a peer that pulls tells of its copies.
CREATE TABLE reports (
    peer      TEXT NOT NULL,
    lineage   TEXT NOT NULL,
    newest    INTEGER NOT NULL,
    term      INTEGER NOT NULL,
    sequence  INTEGER NOT NULL,
    snapshots INTEGER NOT NULL,
    at        INTEGER NOT NULL,
    PRIMARY KEY (peer, lineage)
);
-- How routes went, a row a run and at most one in five minutes otherwise.
CREATE TABLE traffic (
    route    TEXT NOT NULL,
    at       INTEGER NOT NULL,
    seconds  REAL NOT NULL,
    offered  INTEGER NOT NULL,
    sent     INTEGER NOT NULL,
    lag      INTEGER NOT NULL,
    backlog  INTEGER NOT NULL,
    PRIMARY KEY (route, at)
);

-- +goose Down
DROP TABLE traffic;
DROP TABLE reports;
ALTER TABLE volumes DROP COLUMN signer;
ALTER TABLE routes DROP COLUMN known;
ALTER TABLE routes DROP COLUMN last_run;
ALTER TABLE routes DROP COLUMN paused;
ALTER TABLE routes DROP COLUMN terms;
ALTER TABLE peers DROP COLUMN next_key;
ALTER TABLE peers DROP COLUMN former;
ALTER TABLE peers DROP COLUMN pace;
ALTER TABLE peers DROP COLUMN granted;
ALTER TABLE peers DROP COLUMN grants;
ALTER TABLE invitations DROP COLUMN grants;
