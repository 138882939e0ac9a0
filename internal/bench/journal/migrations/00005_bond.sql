-- +goose Up
-- Which bench this journal is of, and which shop it belongs to; empty: none yet.
CREATE TABLE bond (
  one   INTEGER PRIMARY KEY CHECK (one = 1),
  bench TEXT NOT NULL,
  shop  TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO bond (one, bench) VALUES (1, lower(hex(randomblob(16))));
