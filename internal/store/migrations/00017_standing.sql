-- +goose Up
-- Why a reading does not count: 'ahead', its time lay in the future when it came, or 'retracted'; empty: it counts.
ALTER TABLE reading ADD COLUMN aside TEXT NOT NULL DEFAULT '' CHECK (aside IN ('', 'ahead', 'retracted'));
-- The time that counts, where it is not the one the reading came with.
ALTER TABLE reading ADD COLUMN placed INTEGER;
DROP INDEX reading_at;
CREATE INDEX reading_placed ON reading (drive, coalesce(placed, at));
-- What versions before took for the latest, although it lay ahead of the shop's clock, is set aside; its drives are judged anew by the
-- policy in force. The shop's clock is this machine's, or that of the last event, whichever is later: a machine may have lost its time.
UPDATE reading SET aside = 'ahead' WHERE at > 1000 * (600 + max(
  unixepoch(), coalesce((SELECT unixepoch(body ->> '$.at') FROM event ORDER BY seq DESC LIMIT 1), 0)
));
DELETE FROM signal_change WHERE drive IN (SELECT drive FROM reading WHERE aside = 'ahead');
UPDATE drive_now SET policy = 0 WHERE drive IN (SELECT drive FROM reading WHERE aside = 'ahead');
