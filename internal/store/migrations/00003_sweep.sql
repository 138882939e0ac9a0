-- +goose Up
-- A sweep that ended. The body is what is said of it at a glance; ribbon, slow places and temperatures lie apart.
CREATE TABLE sweep (
  run    INTEGER NOT NULL,
  step   INTEGER NOT NULL,
  drive  INTEGER NOT NULL REFERENCES drive,
  kind   TEXT NOT NULL,
  began  INTEGER NOT NULL,
  ended  INTEGER NOT NULL,
  hours  REAL,          -- powered on; NULL: not known
  missed INTEGER NOT NULL,
  body   TEXT NOT NULL, -- JSON of protocol.Sweep
  slow   BLOB NOT NULL, -- zstd of JSON
  heat   BLOB NOT NULL, -- zstd of JSON
  ribbon BLOB NOT NULL, -- zstd of JSON of blocks, packed as surface.Ribbon packs them
  PRIMARY KEY (run, step)
) STRICT, WITHOUT ROWID;
CREATE INDEX sweep_drive ON sweep (drive, ended);

-- The exact sectors it could not read.
CREATE TABLE sweep_range (
  run     INTEGER NOT NULL,
  step    INTEGER NOT NULL,
  lba     INTEGER NOT NULL,
  sectors INTEGER NOT NULL,
  cause   INTEGER NOT NULL,
  PRIMARY KEY (run, step, lba),
  FOREIGN KEY (run, step) REFERENCES sweep (run, step)
) STRICT, WITHOUT ROWID;
