-- +goose Up
-- Who published a policy, and why. The shipped ones have neither.
ALTER TABLE policy ADD COLUMN by TEXT NOT NULL DEFAULT '';
ALTER TABLE policy ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- By which policy a drive was judged last; its verdict may be older, when that policy says the same.
ALTER TABLE drive_now ADD COLUMN policy INTEGER NOT NULL DEFAULT 0;
CREATE INDEX drive_now_policy ON drive_now (policy);

-- What became of a drive: what policies are judged by. A later word replaces an earlier one, which stays in the events.
CREATE TABLE outcome (
  drive  INTEGER PRIMARY KEY REFERENCES drive,
  failed INTEGER NOT NULL,
  at     INTEGER NOT NULL,
  body   TEXT NOT NULL
) STRICT;
