-- +goose Up
-- Times are UTC in integer milliseconds. Bodies are JSON of the shop's types.
CREATE TABLE drive (
  id         INTEGER PRIMARY KEY,
  model      TEXT NOT NULL,
  serial     TEXT NOT NULL,
  identity   TEXT NOT NULL,
  duty       TEXT NOT NULL,
  first_seen INTEGER NOT NULL,
  UNIQUE (model, serial)
) STRICT;
CREATE INDEX drive_serial ON drive (serial);

-- How a drive stands: what lists are made of.
CREATE TABLE drive_now (
  drive        INTEGER PRIMARY KEY REFERENCES drive,
  grade        INTEGER NOT NULL,
  verdict_seq  INTEGER NOT NULL,
  signed       TEXT,
  margin       TEXT NOT NULL,
  margin_share REAL NOT NULL,
  findings     INTEGER NOT NULL,
  first        TEXT NOT NULL,
  hours        REAL,
  temperature  REAL,
  readings     INTEGER NOT NULL,
  last_at      INTEGER NOT NULL
) STRICT;

CREATE TABLE reading (
  drive    INTEGER NOT NULL REFERENCES drive,
  seq      INTEGER NOT NULL,
  at       INTEGER NOT NULL,
  took     INTEGER NOT NULL,
  bay      INTEGER NOT NULL,
  run      INTEGER NOT NULL,
  step     TEXT NOT NULL,
  tool     TEXT NOT NULL,
  decoder  INTEGER NOT NULL,
  report   TEXT NOT NULL UNIQUE,
  manifest TEXT NOT NULL, -- per page: name, how, hash, and the seq that holds its bytes, or the fault
  signals  BLOB NOT NULL, -- packed, see core/signal
  PRIMARY KEY (drive, seq)
) STRICT, WITHOUT ROWID;

-- The pages that differ from the previous reading's, one zstd frame.
CREATE TABLE reading_raw (
  drive INTEGER NOT NULL,
  seq   INTEGER NOT NULL,
  frame BLOB NOT NULL,
  PRIMARY KEY (drive, seq)
) STRICT;

CREATE TABLE signal_change (
  drive  INTEGER NOT NULL REFERENCES drive,
  seq    INTEGER NOT NULL,
  signal TEXT NOT NULL,
  at     INTEGER NOT NULL,
  hours  REAL NOT NULL,
  before REAL NOT NULL,
  after  REAL NOT NULL,
  PRIMARY KEY (drive, seq, signal)
) STRICT, WITHOUT ROWID;

CREATE TABLE verdict (
  drive   INTEGER NOT NULL REFERENCES drive,
  seq     INTEGER NOT NULL,
  at      INTEGER NOT NULL,
  reading INTEGER NOT NULL,
  grade   INTEGER NOT NULL,
  policy  INTEGER NOT NULL,
  body    TEXT NOT NULL,
  PRIMARY KEY (drive, seq)
) STRICT, WITHOUT ROWID;

CREATE TABLE sign_off (
  drive   INTEGER NOT NULL,
  verdict INTEGER NOT NULL,
  body    TEXT NOT NULL,
  PRIMARY KEY (drive, verdict),
  FOREIGN KEY (drive, verdict) REFERENCES verdict (drive, seq)
) STRICT, WITHOUT ROWID;

CREATE TABLE run (
  id     INTEGER PRIMARY KEY,
  model  TEXT NOT NULL,
  serial TEXT NOT NULL,
  done   INTEGER NOT NULL,
  body   TEXT NOT NULL
) STRICT;
CREATE INDEX run_drive ON run (serial, id);

CREATE TABLE bay (
  number     INTEGER PRIMARY KEY,
  connection TEXT NOT NULL,
  model      TEXT NOT NULL,
  serial     TEXT NOT NULL,
  body       TEXT NOT NULL
) STRICT;

CREATE TABLE intake (
  id    INTEGER PRIMARY KEY AUTOINCREMENT,
  drive INTEGER REFERENCES drive,
  bay   INTEGER NOT NULL,
  at    INTEGER NOT NULL,
  body  TEXT NOT NULL
) STRICT;
CREATE INDEX intake_drive ON intake (drive);
CREATE INDEX intake_bay ON intake (bay, id);

CREATE TABLE policy (
  version   INTEGER PRIMARY KEY,
  name      TEXT NOT NULL,
  text      BLOB NOT NULL,
  published INTEGER NOT NULL
) STRICT;

CREATE TABLE event (
  seq  INTEGER PRIMARY KEY AUTOINCREMENT,
  body TEXT NOT NULL
) STRICT;

-- +goose StatementBegin
CREATE TRIGGER verdict_stays BEFORE UPDATE ON verdict BEGIN SELECT RAISE(ABORT, 'a verdict is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sign_off_stays BEFORE UPDATE ON sign_off BEGIN SELECT RAISE(ABORT, 'a sign-off is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_raw_stays BEFORE UPDATE ON reading_raw BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
