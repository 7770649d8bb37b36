-- +goose Up
-- Pauses of volumes that are over, for reports.
CREATE TABLE pauses (
    volume TEXT NOT NULL,
    since  INTEGER NOT NULL,
    until  INTEGER NOT NULL,
    PRIMARY KEY (volume, since)
);

-- +goose Down
DROP TABLE pauses;
