-- +goose Up
-- What this site has witnessed: which site takes a history over, and in which term. Of one term only one site does.
CREATE TABLE claims (
    lineage TEXT PRIMARY KEY,
    term INTEGER NOT NULL,
    site TEXT NOT NULL,
    act TEXT NOT NULL,
    at INTEGER NOT NULL
);

-- +goose Down
DROP TABLE claims;
