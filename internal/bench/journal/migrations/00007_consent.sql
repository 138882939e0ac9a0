-- +goose Up
-- Until when the shop's word holds that the owner's release of a rework still does. Moments of the wall clock, in milliseconds.
CREATE TABLE consent (
  run     INTEGER PRIMARY KEY,
  granted INTEGER NOT NULL,
  until   INTEGER NOT NULL
) STRICT;
