-- +goose Up
-- Which part of a volume of another site the copies are; empty: all of it.
ALTER TABLE volumes ADD COLUMN part TEXT NOT NULL DEFAULT '';
-- The site that brought the first copy, when it was not the origin.
ALTER TABLE volumes ADD COLUMN via TEXT NOT NULL DEFAULT '';
-- How a copy is laid out ready for use, and where.
ALTER TABLE volumes ADD COLUMN standby TEXT NOT NULL DEFAULT '';
ALTER TABLE volumes ADD COLUMN standby_dir TEXT NOT NULL DEFAULT '';
ALTER TABLE volumes ADD COLUMN standby_error TEXT NOT NULL DEFAULT '';
-- For whom crates for a site are sealed, as it last said.
ALTER TABLE peers ADD COLUMN recipient TEXT NOT NULL DEFAULT '';
CREATE TABLE alarms (
    id      INTEGER PRIMARY KEY,
    key     TEXT NOT NULL,
    text    TEXT NOT NULL,
    next    TEXT NOT NULL,
    command TEXT NOT NULL,
    link    TEXT NOT NULL,
    since   INTEGER NOT NULL,
    ended   INTEGER NOT NULL
);
CREATE UNIQUE INDEX alarms_open ON alarms (key) WHERE ended = 0;
CREATE INDEX alarms_by_end ON alarms (ended);
-- Alarms that are not sent out until then.
CREATE TABLE mutes (
    key   TEXT PRIMARY KEY,
    until INTEGER NOT NULL
);
-- What is still to be sent out.
CREATE TABLE notices (
    id       INTEGER PRIMARY KEY,
    channel  TEXT NOT NULL,
    subject  TEXT NOT NULL,
    body     TEXT NOT NULL,
    made     INTEGER NOT NULL,
    tries    INTEGER NOT NULL,
    next_try INTEGER NOT NULL,
    error    TEXT NOT NULL
);

-- +goose Down
ALTER TABLE volumes DROP COLUMN part;
ALTER TABLE volumes DROP COLUMN via;
ALTER TABLE volumes DROP COLUMN standby_error;
ALTER TABLE volumes DROP COLUMN standby_dir;
ALTER TABLE volumes DROP COLUMN standby;
ALTER TABLE peers DROP COLUMN recipient;
DROP TABLE notices;
DROP TABLE mutes;
DROP TABLE alarms;
