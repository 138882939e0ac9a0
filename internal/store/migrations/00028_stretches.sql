-- +goose Up
-- A drive that stays attached is read every hour, and little of what it says moves. Readings that follow a whole one, and differ from it in
-- a few bytes, are kept as what differs: a stretch, see stretch.go. It belongs to the reading first - 1, which lies in reading.
CREATE TABLE stretch (
  drive    INTEGER NOT NULL REFERENCES drive,
  first    INTEGER NOT NULL,
  readings INTEGER NOT NULL,
  began    INTEGER NOT NULL, -- the earliest time of its readings
  ended    INTEGER NOT NULL, -- the latest
  decoder  INTEGER NOT NULL,
  folded   INTEGER NOT NULL DEFAULT 0 CHECK (folded IN (0, 1)), -- of some of them only the time is kept
  pages    BLOB NOT NULL, -- when each was read, its report, and how its pages differ
  signals  BLOB NOT NULL, -- how their signals differ, of those that are not folded
  UNIQUE (drive, first)
) STRICT;
CREATE INDEX stretch_ended ON stretch (drive, ended);
CREATE INDEX stretch_whole ON stretch (drive) WHERE folded = 0;

-- Why a reading in a stretch does not count, and the time that counts, where it is not the one it came with.
CREATE TABLE stretch_standing (
  drive  INTEGER NOT NULL REFERENCES drive,
  seq    INTEGER NOT NULL,
  aside  TEXT NOT NULL CHECK (aside IN ('', 'ahead', 'retracted')),
  placed INTEGER,
  PRIMARY KEY (drive, seq)
) STRICT, WITHOUT ROWID;

-- +goose StatementBegin
CREATE TRIGGER stretch_grows BEFORE UPDATE ON stretch
WHEN NEW.drive <> OLD.drive OR NEW.first <> OLD.first OR NEW.folded < OLD.folded OR NEW.readings < OLD.readings
  OR NEW.folded = OLD.folded AND substr(NEW.pages, 1, length(OLD.pages)) <> OLD.pages
BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER stretch_is_added BEFORE INSERT ON stretch WHEN EXISTS (SELECT 1 FROM stretch WHERE drive = NEW.drive AND first = NEW.first)
BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER stretch_is_kept BEFORE DELETE ON stretch BEGIN SELECT RAISE(ABORT, 'a reading is kept for ever'); END;
-- +goose StatementEnd

-- Every look at a drive asks where it is, and every change of a bay who had its place.
CREATE INDEX bay_drive ON bay (serial, model) WHERE serial <> '';
CREATE INDEX bay_address ON bay (body ->> '$.address');
