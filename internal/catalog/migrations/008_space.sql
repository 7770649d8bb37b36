-- +goose Up
-- Upper bounds, and how full the store was over time.
CREATE TABLE caps (
    scope     TEXT NOT NULL, -- volume, place or peer
    name      TEXT NOT NULL,
    snapshots INTEGER NOT NULL,
    bytes     INTEGER NOT NULL,
    reached   TEXT NOT NULL,
    PRIMARY KEY (scope, name)
);
CREATE TABLE usage (
    at     INTEGER PRIMARY KEY,
    stored INTEGER NOT NULL,
    free   INTEGER NOT NULL
);

-- +goose Down
DROP TABLE usage;
DROP TABLE caps;
