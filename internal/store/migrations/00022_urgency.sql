-- +goose Up
-- Found whatever marks letters have: MULLER finds Müller.
DROP TABLE drive_text;
CREATE VIRTUAL TABLE drive_text USING fts5(serial, model, ticket, customer, tokenize = 'trigram remove_diacritics 1');
INSERT INTO drive_text (rowid, serial, model, ticket, customer)
SELECT d.id, CASE WHEN instr(d.serial, ' ') THEN d.serial || ' ' || replace(d.serial, ' ', '') ELSE d.serial END, d.model,
       COALESCE((SELECT group_concat(i.body ->> '$.Ticket', ' ') FROM intake i WHERE i.drive = d.id), ''),
       COALESCE((SELECT group_concat(i.body ->> '$.Customer', ' ') FROM intake i WHERE i.drive = d.id), '')
FROM drive d;
