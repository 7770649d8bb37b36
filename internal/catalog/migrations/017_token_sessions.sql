-- +goose Up
-- Who signs in to the console by a token gets a session, which ends without the token.
CREATE TABLE token_sessions (
  hash TEXT PRIMARY KEY, token TEXT NOT NULL, made INTEGER NOT NULL, used INTEGER NOT NULL
) STRICT;

-- +goose Down
DROP TABLE token_sessions;
