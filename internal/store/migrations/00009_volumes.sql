-- +goose Up
-- What was read of partition tables and superblocks, as it lay there.
CREATE TABLE volumes (
  id    TEXT PRIMARY KEY,
  drive INTEGER NOT NULL REFERENCES drive,
  at    INTEGER NOT NULL,
  body  BLOB NOT NULL -- zstd of JSON of protocol.Volumes
) STRICT, WITHOUT ROWID;
CREATE INDEX volumes_drive ON volumes (drive, at);
