-- +goose Up
-- Tokens: any number for a person, each with what it is for, what it may, and its end.
CREATE TABLE token (
  id      TEXT PRIMARY KEY,
  person  TEXT NOT NULL REFERENCES person ON DELETE CASCADE,
  name    TEXT NOT NULL,
  scope   TEXT NOT NULL, -- a role, or 'reads'
  hash    BLOB NOT NULL UNIQUE, -- SHA-256 of a random token
  by      TEXT NOT NULL, -- who had it made
  made    INTEGER NOT NULL,
  expires INTEGER NOT NULL DEFAULT 0, -- 0: never
  seen    INTEGER NOT NULL DEFAULT 0  -- 0: never used
) STRICT, WITHOUT ROWID;
INSERT INTO token (id, person, name, scope, hash, by, made)
SELECT lower(hex(randomblob(5))), name, 'command line', role, token, '', since FROM person WHERE length(token) > 0;
ALTER TABLE person DROP COLUMN token;

-- The second factor of a person: JSON of access.Factor; empty: none.
ALTER TABLE person ADD COLUMN factor TEXT NOT NULL DEFAULT '';

-- Where a session came from, by which name people see it, and when its person proved last who they are.
ALTER TABLE session ADD COLUMN id TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN agent TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN proved INTEGER NOT NULL DEFAULT 0;
UPDATE session SET id = lower(hex(randomblob(5)));

-- What a lead demands beyond what always is: JSON of access.Demands.
ALTER TABLE shop ADD COLUMN demands TEXT NOT NULL DEFAULT '{}';
