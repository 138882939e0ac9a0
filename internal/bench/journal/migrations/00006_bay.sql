-- +goose Up
-- What people made of a bay: its number is theirs to change, too.
ALTER TABLE bay ADD COLUMN label TEXT NOT NULL DEFAULT ''; -- "left dock"
ALTER TABLE bay ADD COLUMN position INTEGER NOT NULL DEFAULT 0; -- in the order of bays; 0: by number, after those that have one
ALTER TABLE bay ADD COLUMN hidden INTEGER NOT NULL DEFAULT 0; -- it is not shown
