-- +goose Up
-- The seed of the key by which the shop signs what leaves it (Ed25519); empty: it has none yet.
ALTER TABLE shop ADD COLUMN seal BLOB NOT NULL DEFAULT x'';

-- Whose the keys are that others sign record files by, as people here say.
CREATE TABLE known_key (
  name   TEXT PRIMARY KEY, -- of the key, as seal names it
  called TEXT NOT NULL,
  by     TEXT NOT NULL,
  at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Of a reading that came in a file: the key that signed it, or 'unsigned'; empty: a bench of this shop took it, or it came before this was
-- kept.
ALTER TABLE reading ADD COLUMN origin TEXT NOT NULL DEFAULT '';
-- +goose StatementBegin
CREATE TRIGGER reading_origin_stays BEFORE UPDATE OF origin ON reading BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
