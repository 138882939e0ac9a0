-- +goose Up
-- What stays as it is stays whatever asks: INSERT OR REPLACE takes a row's place without a word to the triggers before.
-- +goose StatementBegin
CREATE TRIGGER audit_is_added_to BEFORE INSERT ON audit WHEN EXISTS (SELECT 1 FROM audit WHERE seq = NEW.seq)
BEGIN SELECT RAISE(ABORT, 'the audit is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER verdict_is_added BEFORE INSERT ON verdict WHEN EXISTS (SELECT 1 FROM verdict WHERE drive = NEW.drive AND seq = NEW.seq)
BEGIN SELECT RAISE(ABORT, 'a verdict is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER verdict_is_kept BEFORE DELETE ON verdict BEGIN SELECT RAISE(ABORT, 'a verdict is kept for ever'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sign_off_is_added BEFORE INSERT ON sign_off
WHEN EXISTS (SELECT 1 FROM sign_off WHERE drive = NEW.drive AND verdict = NEW.verdict)
BEGIN SELECT RAISE(ABORT, 'a sign-off is never edited'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sign_off_is_kept BEFORE DELETE ON sign_off BEGIN SELECT RAISE(ABORT, 'a sign-off is kept for ever'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_is_added BEFORE INSERT ON reading WHEN EXISTS (SELECT 1 FROM reading WHERE drive = NEW.drive AND seq = NEW.seq)
BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_stays BEFORE UPDATE OF drive, seq, at, took, bench, bay, run, step, tool, report, manifest, leaves ON reading
BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_is_kept BEFORE DELETE ON reading BEGIN SELECT RAISE(ABORT, 'a reading is kept for ever'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_raw_is_added BEFORE INSERT ON reading_raw
WHEN EXISTS (SELECT 1 FROM reading_raw WHERE drive = NEW.drive AND seq = NEW.seq)
BEGIN SELECT RAISE(ABORT, 'a reading is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER reading_raw_is_kept BEFORE DELETE ON reading_raw BEGIN SELECT RAISE(ABORT, 'a reading is kept for ever'); END;
-- +goose StatementEnd
-- A session ends a week after it began, however often it is used.
ALTER TABLE session ADD COLUMN begun INTEGER NOT NULL DEFAULT 0;
UPDATE session SET begun = seen;
