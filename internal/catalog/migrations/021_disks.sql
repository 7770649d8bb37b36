-- +goose Up
CREATE TABLE disk_hosts (
    name TEXT PRIMARY KEY,
    certificate TEXT NOT NULL UNIQUE, -- SHA-256 of it, in hexadecimal
    until INTEGER NOT NULL,           -- when the certificate ends
    disks TEXT NOT NULL,              -- names of the disks that it may open
    made INTEGER NOT NULL,
    made_by TEXT NOT NULL
);
CREATE TABLE disk_terms (
    lineage TEXT PRIMARY KEY,
    closed INTEGER NOT NULL, -- to clients, by a person
    shared INTEGER NOT NULL  -- several clients may write
);
ALTER TABLE clones ADD COLUMN lineage TEXT NOT NULL DEFAULT ''; -- of a disk

-- +goose Down
ALTER TABLE clones DROP COLUMN lineage;
DROP TABLE disk_terms;
DROP TABLE disk_hosts;
