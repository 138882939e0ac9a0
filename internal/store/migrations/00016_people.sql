-- +goose Up
-- A shop in which somebody was entered once is closed, and stays so whoever is left.
ALTER TABLE shop ADD COLUMN closed INTEGER NOT NULL DEFAULT 0 CHECK (closed IN (0, 1));
UPDATE shop SET closed = 1 WHERE EXISTS (SELECT 1 FROM person);
