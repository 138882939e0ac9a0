-- +goose Up
-- How the chance of failing is moved by the shop's own outcomes; the newest is in force.
CREATE TABLE calibration (
  at   INTEGER PRIMARY KEY,
  body TEXT NOT NULL
) STRICT;
