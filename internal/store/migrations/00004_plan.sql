-- +goose Up
-- The one plan of the bench: what becomes of every drive that is put in.
CREATE TABLE plan (
  id   INTEGER PRIMARY KEY CHECK (id = 1),
  body TEXT NOT NULL -- JSON of shop.Plan
) STRICT;
