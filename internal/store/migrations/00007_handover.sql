-- +goose Up
-- Drives taken in together. Drives that come to answer while it is open are taken in on it.
CREATE TABLE lot (
  id   INTEGER PRIMARY KEY AUTOINCREMENT,
  open INTEGER NOT NULL,
  body TEXT NOT NULL -- JSON of shop.Lot
) STRICT;
CREATE UNIQUE INDEX lot_open ON lot (open) WHERE open = 1; -- one at a time: the bench asks nobody

ALTER TABLE intake ADD COLUMN lot INTEGER REFERENCES lot;
ALTER TABLE intake ADD COLUMN open INTEGER NOT NULL DEFAULT 1; -- 0: handed over
CREATE INDEX intake_lot ON intake (lot) WHERE lot IS NOT NULL;
CREATE INDEX intake_open ON intake (open, id);
