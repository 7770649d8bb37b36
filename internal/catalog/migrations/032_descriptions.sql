-- +goose Up
-- What people say of policies, routes, groups and sites. It goes with what it is of.
CREATE TABLE descriptions (
  kind TEXT NOT NULL,                  -- policy, route, group, site
  name TEXT NOT NULL,
  text TEXT NOT NULL,
  PRIMARY KEY (kind, name)
) WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER policy_undescribed AFTER DELETE ON policies BEGIN
  DELETE FROM descriptions WHERE kind='policy' AND name=OLD.name;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER route_undescribed AFTER DELETE ON routes BEGIN
  DELETE FROM descriptions WHERE kind='route' AND name=OLD.name;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER group_undescribed AFTER DELETE ON groups BEGIN
  DELETE FROM descriptions WHERE kind='group' AND name=OLD.name;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER site_undescribed AFTER DELETE ON peers BEGIN
  DELETE FROM descriptions WHERE kind='site' AND name=OLD.name;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER policy_undescribed; DROP TRIGGER route_undescribed;
DROP TRIGGER group_undescribed; DROP TRIGGER site_undescribed;
DROP TABLE descriptions;
