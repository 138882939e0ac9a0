-- +goose Up
-- A report is a zstd frame of its JSON: a reading is dozens of pages that are empty for the most part, and all of two days are kept. Those
-- of before keep their body.
ALTER TABLE outbox ADD COLUMN packed BLOB;
