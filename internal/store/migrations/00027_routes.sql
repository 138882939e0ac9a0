-- +goose Up
-- Who is told of alerts, and what is told to whom.
CREATE TABLE route (
  name   TEXT PRIMARY KEY,
  body   TEXT NOT NULL, -- JSON of tell.Route
  secret BLOB,          -- sealed; NULL: it has none
  by     TEXT NOT NULL,
  at     INTEGER NOT NULL,
  sent   INTEGER NOT NULL DEFAULT 0, -- when it told something last; 0: never
  failed INTEGER NOT NULL DEFAULT 0, -- when it failed to, last; 0: never
  why    TEXT NOT NULL DEFAULT ''    -- that
) STRICT;

CREATE TABLE message (
  id      INTEGER PRIMARY KEY AUTOINCREMENT, -- never given anew: receivers know messages by it
  route   TEXT NOT NULL,
  alert   INTEGER NOT NULL,
  state   TEXT NOT NULL, -- waiting, sent, dropped, failed
  due     INTEGER NOT NULL,
  next    INTEGER NOT NULL, -- when it is tried, or tried again
  tries   INTEGER NOT NULL DEFAULT 0,
  digest  INTEGER NOT NULL,
  untaken INTEGER NOT NULL, -- it is told if nobody has taken the alert by then
  ended   INTEGER NOT NULL DEFAULT 0, -- when it was sent, dropped or given up
  why     TEXT NOT NULL DEFAULT '',
  body    TEXT NOT NULL -- JSON of what is told, as it was then
) STRICT;
CREATE INDEX message_next ON message (next) WHERE state = 'waiting';
CREATE INDEX message_alert ON message (alert);
