-- +goose Up
-- How drives that stay attached are watched.
CREATE TABLE watch_plan (
  id   INTEGER PRIMARY KEY,
  body TEXT NOT NULL, -- JSON of watch.Plan
  by   TEXT NOT NULL,
  at   INTEGER NOT NULL
) STRICT;

-- The drives that are watched, each by the narrowest plan there is for it.
CREATE TABLE watched (
  drive  INTEGER PRIMARY KEY REFERENCES drive(id),
  plan   INTEGER NOT NULL,
  since  INTEGER NOT NULL,
  asleep INTEGER NOT NULL DEFAULT 0,
  told   INTEGER NOT NULL DEFAULT 0 -- when it told its counters last; 0: never
) STRICT;

-- What came due for a drive last, of each task, and was begun: stored before the order is given.
CREATE TABLE watch_begun (
  drive INTEGER NOT NULL REFERENCES drive(id),
  task  INTEGER NOT NULL,
  slot  INTEGER NOT NULL,
  PRIMARY KEY (drive, task)
) STRICT, WITHOUT ROWID;
