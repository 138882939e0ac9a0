-- +goose Up
-- How far a sweep is: what it goes on from. The ribbon's blocks of cells lie apart, so that a mark writes only those that changed.
CREATE TABLE sweep_mark (
  run  INTEGER NOT NULL,
  step INTEGER NOT NULL,
  body TEXT NOT NULL, -- JSON of journal.Mark
  PRIMARY KEY (run, step)
) STRICT, WITHOUT ROWID;

CREATE TABLE sweep_block (
  run    INTEGER NOT NULL,
  step   INTEGER NOT NULL,
  number INTEGER NOT NULL,
  cells  BLOB NOT NULL, -- packed, see surface.Ribbon
  PRIMARY KEY (run, step, number)
) STRICT, WITHOUT ROWID;
