-- +goose Up
-- Who the shop is: a bench that belongs to it carries this id.
CREATE TABLE shop (
  one INTEGER PRIMARY KEY CHECK (one = 1),
  id  TEXT NOT NULL
) STRICT;
INSERT INTO shop (one, id) VALUES (1, lower(hex(randomblob(16))));

-- The benches it has; its own has no name. taken is the sequence of the newest report that is stored.
CREATE TABLE bench (
  name  TEXT PRIMARY KEY,
  id    TEXT NOT NULL,
  taken INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Numbers of runs: each is given once, and never again. The table stays empty.
CREATE TABLE run_number (
  id INTEGER PRIMARY KEY AUTOINCREMENT
) STRICT;
INSERT INTO run_number (id)
SELECT n FROM (SELECT MAX(COALESCE((SELECT MAX(id) FROM run), 0), COALESCE((SELECT MAX(run) FROM sweep), 0), COALESCE((SELECT MAX(run) FROM reading), 0)) AS n) WHERE n > 0;
DELETE FROM run_number;

-- A bay is a number at a bench. What was recorded so far is of the shop's own.
ALTER TABLE run ADD COLUMN bench TEXT NOT NULL DEFAULT '';
ALTER TABLE reading ADD COLUMN bench TEXT NOT NULL DEFAULT '';
ALTER TABLE intake ADD COLUMN bench TEXT NOT NULL DEFAULT '';
DROP INDEX intake_bay;
CREATE INDEX intake_bay ON intake (bench, bay, id);

ALTER TABLE bay RENAME TO old_bay;
CREATE TABLE bay (
  bench      TEXT NOT NULL,
  number     INTEGER NOT NULL,
  connection TEXT NOT NULL,
  model      TEXT NOT NULL,
  serial     TEXT NOT NULL,
  body       TEXT NOT NULL, -- JSON of protocol.Bay
  PRIMARY KEY (bench, number)
) STRICT, WITHOUT ROWID;
INSERT INTO bay (bench, number, connection, model, serial, body) SELECT '', number, connection, model, serial, body FROM old_bay;
DROP TABLE old_bay;

ALTER TABLE answered RENAME TO old_answered;
CREATE TABLE answered (
  bench TEXT NOT NULL,
  bay   INTEGER NOT NULL,
  at    INTEGER NOT NULL,
  PRIMARY KEY (bench, bay)
) STRICT, WITHOUT ROWID;
INSERT INTO answered (bench, bay, at) SELECT '', bay, at FROM old_answered;
DROP TABLE old_answered;

-- Each bench has a plan of its own.
ALTER TABLE plan RENAME TO old_plan;
CREATE TABLE plan (
  bench TEXT PRIMARY KEY,
  body  TEXT NOT NULL -- JSON of shop.Plan
) STRICT, WITHOUT ROWID;
INSERT INTO plan (bench, body) SELECT '', body FROM old_plan;
DROP TABLE old_plan;
