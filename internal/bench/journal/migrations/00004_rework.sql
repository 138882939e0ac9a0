-- +goose Up
-- What is about to be written: committed before it is, gone when it is done. A sweep that writes has one at a time.
CREATE TABLE intent (
  run     INTEGER NOT NULL,
  step    INTEGER NOT NULL,
  lba     INTEGER NOT NULL,
  sectors INTEGER NOT NULL,
  PRIMARY KEY (run, step)
) STRICT, WITHOUT ROWID;

-- Releases that were used: each begins one rework.
CREATE TABLE used_release (
  nonce TEXT PRIMARY KEY
) STRICT, WITHOUT ROWID;
