-- +goose Up
-- What would bring the evidence that a verdict lacks first. Drives without a verdict are judged anew, which finds it.
ALTER TABLE drive_now ADD COLUMN missing TEXT NOT NULL DEFAULT '';
UPDATE drive_now SET policy = 0 WHERE grade = 0;
