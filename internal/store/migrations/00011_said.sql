-- +goose Up
-- A digest of what the present verdict says, to tell whether the next one says something else without reading it. NULL: not known.
ALTER TABLE drive_now ADD COLUMN said BLOB;
