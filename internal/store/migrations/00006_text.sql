-- +goose Up
-- What drives are found by as somebody types, any three characters in a row. rowid is the drive.
CREATE VIRTUAL TABLE drive_text USING fts5(serial, model, ticket, customer, tokenize = 'trigram');
INSERT INTO drive_text (rowid, serial, model, ticket, customer)
SELECT d.id, CASE WHEN instr(d.serial, ' ') THEN d.serial || ' ' || replace(d.serial, ' ', '') ELSE d.serial END, d.model,
       COALESCE((SELECT group_concat(i.body ->> '$.Ticket', ' ') FROM intake i WHERE i.drive = d.id), ''),
       COALESCE((SELECT group_concat(i.body ->> '$.Customer', ' ') FROM intake i WHERE i.drive = d.id), '')
FROM drive d;

-- A verdict's body as zstd of JSON: a verdict is stored for ever. Those from before have it in body.
ALTER TABLE verdict ADD COLUMN packed BLOB;
