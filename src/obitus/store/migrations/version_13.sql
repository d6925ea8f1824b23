-- Version 13 (2026-11): saved questions, boards, and from which severity loggers send for a while.

-- A question with a name: what the page Search shows it as.
CREATE TABLE saved_questions (
  id          INTEGER PRIMARY KEY,
  person_id   INTEGER NOT NULL REFERENCES people (id),
  name        TEXT NOT NULL,
  for_all     INTEGER NOT NULL CHECK (for_all IN (0, 1)),
  view        TEXT NOT NULL,                 -- JSON: question, summary, window, columns and the like
  changed_ms  INTEGER NOT NULL
) STRICT;
-- Of one person, or of all, one has a name.
CREATE UNIQUE INDEX saved_questions_of_all ON saved_questions (name) WHERE for_all = 1;
CREATE UNIQUE INDEX saved_questions_of_one ON saved_questions (person_id, name) WHERE for_all = 0;

-- Pictures and tables put together, for all of the team.
CREATE TABLE boards (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE,
  panes       TEXT NOT NULL,                 -- JSON: what each shows, how wide and how high, in their order
  revision    INTEGER NOT NULL,              -- grows with each change
  person_id   INTEGER REFERENCES people (id),-- who changed it last; absent where nobody did
  changed_ms  INTEGER NOT NULL
) STRICT;

-- What is done once for a store, and was done.
CREATE TABLE done_once (
  what     TEXT PRIMARY KEY,
  done_ms  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- From which severity a logger of an app, and those below it, send records for a while.
CREATE TABLE log_orders (
  id           INTEGER PRIMARY KEY,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  environment  TEXT NOT NULL,                -- '' for all
  logger       TEXT NOT NULL,                -- '' for all
  severity     TEXT NOT NULL CHECK (severity IN ('TRACE', 'DEBUG', 'INFO', 'WARN', 'ERROR', 'FATAL')),
  person_id    INTEGER NOT NULL REFERENCES people (id),
  made_ms      INTEGER NOT NULL,
  until_ms     INTEGER NOT NULL,
  ended_ms     INTEGER                       -- when somebody ended it before its time
) STRICT;
-- Those that may still hold.
CREATE INDEX log_orders_active ON log_orders (until_ms, app_id) WHERE ended_ms IS NULL;
