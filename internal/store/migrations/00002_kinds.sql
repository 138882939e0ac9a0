-- +goose Up
-- What was concluded of a drive's dialect over time.
ALTER TABLE drive ADD COLUMN hints TEXT NOT NULL DEFAULT '';

-- A page's name, the command it came by, and the fault that stands for it repeat with every reading: each is kept once.
CREATE TABLE leaf_kind (
  id    INTEGER PRIMARY KEY,
  name  TEXT NOT NULL,
  how   TEXT NOT NULL,
  fault TEXT NOT NULL, -- JSON; empty: the page has bytes
  UNIQUE (name, how, fault)
) STRICT;

-- The manifest in packed form, see manifest.go. Readings from before this migration have it in manifest, as JSON.
ALTER TABLE reading ADD COLUMN leaves BLOB;
CREATE INDEX reading_at ON reading (drive, at);
