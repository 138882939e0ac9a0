-- +goose Up
-- What a person should know: one row for each thing, however often it happens.
CREATE TABLE alert (
  id    INTEGER PRIMARY KEY,
  kind  TEXT NOT NULL,
  drive INTEGER NOT NULL DEFAULT 0, -- 0: it is about no drive
  bench TEXT NOT NULL DEFAULT '',
  name  TEXT NOT NULL DEFAULT '',
  state TEXT NOT NULL,
  moved INTEGER NOT NULL,
  body  TEXT NOT NULL, -- JSON of alert.Alert
  UNIQUE (kind, drive, bench, name)
) STRICT;
CREATE INDEX alert_state ON alert (state, moved);
CREATE INDEX alert_drive ON alert (drive);

-- Flaws that are known, and quiet up to a level.
CREATE TABLE accepted (
  drive  INTEGER NOT NULL REFERENCES drive(id),
  signal TEXT NOT NULL,
  body   TEXT NOT NULL, -- JSON of alert.Accepted
  PRIMARY KEY (drive, signal)
) STRICT, WITHOUT ROWID;
