-- +goose Up
-- The last change of each row of volumes, those that are gone too, in the order of the changes.
CREATE TABLE volume_changes (
  name TEXT PRIMARY KEY,
  number INTEGER NOT NULL
) WITHOUT ROWID;
CREATE UNIQUE INDEX volume_changes_number ON volume_changes (number);
-- +goose StatementBegin
CREATE TRIGGER volume_came AFTER INSERT ON volumes BEGIN
  INSERT INTO volume_changes (name, number) VALUES (NEW.name, (SELECT COALESCE(MAX(number), 0) + 1 FROM volume_changes))
    ON CONFLICT (name) DO UPDATE SET number=excluded.number;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER volume_changed AFTER UPDATE ON volumes BEGIN
  INSERT INTO volume_changes (name, number) VALUES (NEW.name, (SELECT COALESCE(MAX(number), 0) + 1 FROM volume_changes))
    ON CONFLICT (name) DO UPDATE SET number=excluded.number;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER volume_renamed AFTER UPDATE OF name ON volumes WHEN OLD.name<>NEW.name BEGIN
  INSERT INTO volume_changes (name, number) VALUES (OLD.name, (SELECT COALESCE(MAX(number), 0) + 1 FROM volume_changes))
    ON CONFLICT (name) DO UPDATE SET number=excluded.number;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER volume_went AFTER DELETE ON volumes BEGIN
  INSERT INTO volume_changes (name, number) VALUES (OLD.name, (SELECT COALESCE(MAX(number), 0) + 1 FROM volume_changes))
    ON CONFLICT (name) DO UPDATE SET number=excluded.number;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER volume_came; DROP TRIGGER volume_changed; DROP TRIGGER volume_renamed; DROP TRIGGER volume_went;
DROP TABLE volume_changes;
