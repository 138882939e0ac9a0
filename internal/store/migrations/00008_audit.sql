-- +goose Up
-- What people did, for ever. Each row's hash covers the row before: whoever changes one breaks all that follow.
CREATE TABLE audit (
  seq    INTEGER PRIMARY KEY,
  at     INTEGER NOT NULL,
  by     TEXT NOT NULL,
  kind   TEXT NOT NULL,
  serial TEXT NOT NULL,
  text   TEXT NOT NULL,
  hash   BLOB NOT NULL
) STRICT;
CREATE INDEX audit_serial ON audit (serial, seq) WHERE serial <> '';

-- +goose StatementBegin
CREATE TRIGGER audit_stays BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER audit_is_kept BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit is kept for ever'); END;
-- +goose StatementEnd

-- Who works here. No row: the shop is open to whoever reaches it. Passwords and tokens are kept as hashes.
CREATE TABLE person (
  name     TEXT PRIMARY KEY,
  role     TEXT NOT NULL,
  password TEXT NOT NULL, -- argon2id; empty: none
  token    BLOB NOT NULL, -- SHA-256 of a random token; empty: none
  since    INTEGER NOT NULL
) STRICT;

CREATE TABLE session (
  hash   BLOB PRIMARY KEY, -- SHA-256 of what the cookie carries
  person TEXT NOT NULL REFERENCES person ON DELETE CASCADE,
  seen   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
