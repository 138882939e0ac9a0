-- +goose Up
-- Where a drive stands among those that are sorted by urgency: what its verdict asks for (0 replace, 1 degrading, 2 undecided, 3 healthy),
-- then how much of its tightest allowance is left. It follows drive_now.
ALTER TABLE drive ADD COLUMN urgency INTEGER NOT NULL DEFAULT 2;
ALTER TABLE drive ADD COLUMN spare REAL NOT NULL DEFAULT 0; -- the part of it that is used, negative
UPDATE drive SET (urgency, spare) = (
  SELECT CASE n.grade WHEN 3 THEN 0 WHEN 2 THEN 1 WHEN 0 THEN 2 ELSE 3 END, -n.margin_share FROM drive_now n WHERE n.drive = drive.id
) WHERE id IN (SELECT drive FROM drive_now);
CREATE INDEX drive_urgency ON drive (urgency, spare, serial);
CREATE INDEX drive_grade ON drive (urgency, serial); -- those of a verdict by serial
-- +goose StatementBegin
CREATE TRIGGER drive_urgency AFTER INSERT ON drive_now BEGIN
  UPDATE drive SET urgency = CASE NEW.grade WHEN 3 THEN 0 WHEN 2 THEN 1 WHEN 0 THEN 2 ELSE 3 END, spare = -NEW.margin_share
  WHERE id = NEW.drive
    AND (urgency, spare) IS NOT (CASE NEW.grade WHEN 3 THEN 0 WHEN 2 THEN 1 WHEN 0 THEN 2 ELSE 3 END, -NEW.margin_share);
END;
-- +goose StatementEnd
