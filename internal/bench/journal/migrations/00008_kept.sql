-- +goose Up
-- When the shop's word came that a report is stored, in milliseconds of the wall clock; NULL: it has not come. Such a report is kept for a
-- while: a shop whose records are brought back from a copy asks for it again.
ALTER TABLE outbox ADD COLUMN acknowledged INTEGER;
CREATE INDEX outbox_pending ON outbox (seq) WHERE acknowledged IS NULL;
CREATE INDEX outbox_kept ON outbox (acknowledged) WHERE acknowledged IS NOT NULL;
