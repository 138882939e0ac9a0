-- +goose Up
-- These records were brought back from a copy, and what follows from that is not done yet.
ALTER TABLE shop ADD COLUMN brought_back INTEGER NOT NULL DEFAULT 0 CHECK (brought_back IN (0, 1));
