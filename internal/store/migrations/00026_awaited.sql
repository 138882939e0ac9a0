-- +goose Up
-- Runs whose end somebody waits for.
CREATE TABLE awaited (
  run INTEGER PRIMARY KEY,
  by  TEXT NOT NULL
) STRICT;
