-- The schema of a day file. Version 2 (2026-11). The numbers of apps, releases and dictionaries are those of obitus.sqlite3.
-- ``place`` is a report's number in this file; no two reports of whatever kind share one, and none is given twice.

-- How far this file was written: compared with obitus.sqlite3, which is committed after it.
CREATE TABLE written (
  one    INTEGER PRIMARY KEY CHECK (one = 1),
  place  INTEGER NOT NULL                    -- the last one given to a report
) STRICT;
INSERT INTO written VALUES (1, 0);

-- Every report of the day, whatever its kind. The pair (id, app) makes sending twice harmless.
CREATE TABLE ids (
  id      BLOB NOT NULL,
  app_id  INTEGER NOT NULL,
  place   INTEGER NOT NULL,
  PRIMARY KEY (id, app_id)
) STRICT, WITHOUT ROWID;

-- The whole report as JSON, compressed. Read only when one report is shown. Logs have none: their rows hold all.
CREATE TABLE evidence (
  place          INTEGER PRIMARY KEY,
  app_id         INTEGER NOT NULL,
  kind           TEXT NOT NULL CHECK (kind IN ('failure', 'run', 'tally')),
  dictionary_id  INTEGER,
  body           BLOB NOT NULL               -- a zstd frame
) STRICT;

-- What repeats in logs and runs, once: names, templates, attributes that many have alike.
CREATE TABLE texts (
  id    INTEGER PRIMARY KEY,
  hash  INTEGER NOT NULL,                    -- of the text; an index of texts would hold each a second time
  text  TEXT NOT NULL
) STRICT;
CREATE INDEX texts_by_hash ON texts (hash);

-- A log record. Columns that end in _id without an app or release are rows of texts; 0 stands for the empty text.
CREATE TABLE logs (
  place           INTEGER PRIMARY KEY,
  time_ms         INTEGER NOT NULL,          -- when it happened, after correction of the sender's clock
  late_ms         INTEGER NOT NULL,          -- how long after that it was received
  app_id          INTEGER NOT NULL,
  release_id      INTEGER NOT NULL,
  environment_id  INTEGER NOT NULL,
  severity        INTEGER NOT NULL,          -- 0 TRACE … 5 FATAL
  logger_id       INTEGER NOT NULL,
  template_id     INTEGER NOT NULL,
  message_id      INTEGER NOT NULL,          -- a message that repeats and has no template
  message         TEXT,                      -- any other message; absent where the template, with its values, says it
  filled          TEXT,                      -- the values in the template's places, a unit separator between them; '' beside a
                                             -- message that is its own template
  trace_id        BLOB,
  span_id         BLOB,
  run_id          BLOB,
  entry_point_id  INTEGER NOT NULL,
  shared          BLOB,                      -- the attributes that repeat: rows of texts, as variable-length numbers (LEB128)
  attributes      TEXT,                      -- JSON: the other attributes
  rest            TEXT                       -- JSON: what else the report held
) STRICT;
CREATE INDEX logs_by_time ON logs (time_ms);

-- A failure, as far as it is asked for. What is decided and counted of it is in the main file, under the same number.
CREATE TABLE failures (
  place           INTEGER PRIMARY KEY,
  time_ms         INTEGER NOT NULL,          -- when it happened, after correction of the sender's clock
  late_ms         INTEGER NOT NULL,
  app_id          INTEGER NOT NULL,
  release_id      INTEGER NOT NULL,
  environment_id  INTEGER NOT NULL,
  severity        INTEGER NOT NULL,          -- 0 TRACE … 5 FATAL
  handled         TEXT NOT NULL CHECK (handled IN ('true', 'false')),
  type_id         INTEGER NOT NULL,          -- of the exception that came out
  message         TEXT NOT NULL,
  entry_point_id  INTEGER NOT NULL,
  trace_id        BLOB,
  run_id          BLOB,
  shared          BLOB,
  attributes      TEXT,
  stands_for      INTEGER NOT NULL DEFAULT 1 -- itself, and those like it that were only counted
) STRICT;
CREATE INDEX failures_by_time ON failures (time_ms);

-- A whole run. Its request and its steps are in its evidence.
CREATE TABLE runs (
  place           INTEGER PRIMARY KEY,
  time_ms         INTEGER NOT NULL,          -- when it was reported, after correction of the sender's clock
  late_ms         INTEGER NOT NULL,
  app_id          INTEGER NOT NULL,
  release_id      INTEGER NOT NULL,
  environment_id  INTEGER NOT NULL,
  entry_point_id  INTEGER NOT NULL,
  outcome         TEXT NOT NULL CHECK (outcome IN ('', 'ok', 'refused', 'failed')),
  status          INTEGER,                   -- of the answer
  duration_ms     REAL,
  request         TEXT NOT NULL,             -- method and address, '' where it answers none
  kept_id         INTEGER NOT NULL,          -- why it was sent whole
  trace_id        BLOB,
  run_id          BLOB,
  shared          BLOB,
  attributes      TEXT
) STRICT;
CREATE INDEX runs_by_time ON runs (time_ms);

-- The different words of a log's message, a run's request line, a failure's type and message, and a term for each name and value (core/terms.py).
-- The text itself is not kept here a second time. Nothing is ever taken out: what has no row any more is passed over.
CREATE VIRTUAL TABLE words USING fts5 (text, content = '', columnsize = 0, detail = none, tokenize = "ascii tokenchars '~'");
