-- +goose Up
-- What an adapter (vendor, product and version id) passes to the drive behind it, as found by trying.
CREATE TABLE adapter (
  id     TEXT PRIMARY KEY,
  passes INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
