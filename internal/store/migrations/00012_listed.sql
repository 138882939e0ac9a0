-- +goose Up
-- What a list tells of an identity, beside it: a list is asked for as somebody types.
ALTER TABLE drive ADD COLUMN interface TEXT NOT NULL DEFAULT '';
ALTER TABLE drive ADD COLUMN medium TEXT NOT NULL DEFAULT '';
ALTER TABLE drive ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
UPDATE drive SET interface = COALESCE(identity ->> '$.Interface', ''), medium = COALESCE(identity ->> '$.Medium', ''), bytes = COALESCE(identity ->> '$.Bytes', 0);
