-- +goose Up
-- Where a drive stands among those that are sorted by urgency: what its verdict asks for (0 replace, 1 degrading, 2 undecided, 3 healthy),
-- then how much of its tightest allowance is used, negative. drive has both, for its index, and follows drive_now.
CREATE VIEW drive_place AS
SELECT drive, CASE grade WHEN 3 THEN 0 WHEN 2 THEN 1 WHEN 0 THEN 2 ELSE 3 END AS urgency, -margin_share AS spare FROM drive_now;

ALTER TABLE drive ADD COLUMN urgency INTEGER NOT NULL DEFAULT 2;
ALTER TABLE drive ADD COLUMN spare REAL NOT NULL DEFAULT 0;
UPDATE drive SET (urgency, spare) = (SELECT p.urgency, p.spare FROM drive_place AS p WHERE p.drive = drive.id)
WHERE id IN (SELECT drive FROM drive_now);
CREATE INDEX drive_urgency ON drive (urgency, spare, serial);
CREATE INDEX drive_grade ON drive (urgency, serial); -- those of a verdict by serial
-- +goose StatementBegin
CREATE TRIGGER drive_urgency AFTER INSERT ON drive_now BEGIN
  UPDATE drive SET (urgency, spare) = (SELECT p.urgency, p.spare FROM drive_place AS p WHERE p.drive = NEW.drive)
  WHERE id = NEW.drive AND (urgency, spare) IS NOT (SELECT p.urgency, p.spare FROM drive_place AS p WHERE p.drive = NEW.drive);
END;
-- +goose StatementEnd
