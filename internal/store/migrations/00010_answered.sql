-- +goose Up
-- When a drive answered last in a bay: a port is known to be good when another drive answered there afterwards.
CREATE TABLE answered (
  bay INTEGER PRIMARY KEY,
  at  INTEGER NOT NULL
) STRICT;
