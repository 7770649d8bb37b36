-- +goose Up
-- The last changes of rows of snapshots, those that are gone too, in their order. Only so many are held: who has seen
-- less reads all rows.
CREATE TABLE snapshot_changes (
  number INTEGER PRIMARY KEY,
  place TEXT NOT NULL,
  volume TEXT NOT NULL,
  id TEXT NOT NULL
);
-- +goose StatementBegin
CREATE TRIGGER snapshot_moved BEFORE INSERT ON snapshots BEGIN
  INSERT INTO snapshot_changes (place, volume, id)
    SELECT place, volume, id FROM snapshots WHERE place=NEW.place AND id=NEW.id AND volume<>NEW.volume;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER snapshot_came AFTER INSERT ON snapshots BEGIN
  INSERT INTO snapshot_changes (place, volume, id) VALUES (NEW.place, NEW.volume, NEW.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER snapshot_changed AFTER UPDATE ON snapshots BEGIN
  INSERT INTO snapshot_changes (place, volume, id) VALUES (NEW.place, NEW.volume, NEW.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER snapshot_renamed AFTER UPDATE OF place, volume, id ON snapshots BEGIN
  INSERT INTO snapshot_changes (place, volume, id) VALUES (OLD.place, OLD.volume, OLD.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER snapshot_went AFTER DELETE ON snapshots BEGIN
  INSERT INTO snapshot_changes (place, volume, id) VALUES (OLD.place, OLD.volume, OLD.id);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER snapshot_change_old AFTER INSERT ON snapshot_changes WHEN NEW.number % 1000 = 0 BEGIN
  DELETE FROM snapshot_changes WHERE number<=NEW.number-20000;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER snapshot_moved; DROP TRIGGER snapshot_came; DROP TRIGGER snapshot_changed; DROP TRIGGER snapshot_renamed;
DROP TRIGGER snapshot_went; DROP TRIGGER snapshot_change_old;
DROP TABLE snapshot_changes;
