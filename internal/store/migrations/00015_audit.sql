-- +goose Up
-- How people came in, and what they changed: JSON of shop.Edit. Rows of before have neither, and their hashes cover neither.
ALTER TABLE audit ADD COLUMN role TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN via TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN edits TEXT NOT NULL DEFAULT '';
