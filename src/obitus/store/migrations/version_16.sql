-- Version 16 (2026-11): quiet failures: what went wrong with no exception, and the issues that people make of it.

-- Log records of WARN and worse by what they say, by the hour.
CREATE TABLE warned_hours (
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  hour         INTEGER NOT NULL,
  said         TEXT NOT NULL,                -- the message without its values; '…' for those beyond the ones that are told apart
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  records      INTEGER NOT NULL,
  PRIMARY KEY (app_id, hour, said, release_id, environment)
) STRICT, WITHOUT ROWID;

-- What is new, or more than usual.
CREATE TABLE quiet_failures (
  id            INTEGER PRIMARY KEY,
  app_id        INTEGER NOT NULL REFERENCES apps (id),
  environment   TEXT NOT NULL,
  kind          TEXT NOT NULL CHECK (kind IN ('refused', 'warning', 'silent')),
  subject       TEXT NOT NULL,               -- an entry point, or what the records say
  reason        TEXT NOT NULL,               -- in words, with its numbers
  chance        REAL NOT NULL,
  found_ms      INTEGER NOT NULL,
  held_ms       INTEGER NOT NULL,            -- when it was last found to hold
  ended_ms      INTEGER,                     -- when it no longer held
  left_by       INTEGER REFERENCES people (id), -- who said that it is nothing to act on
  left_ms       INTEGER
) STRICT;
CREATE UNIQUE INDEX quiet_failures_open ON quiet_failures (app_id, environment, kind, subject) WHERE ended_ms IS NULL;
CREATE INDEX quiet_failures_ended ON quiet_failures (ended_ms) WHERE ended_ms IS NOT NULL;

-- Issues that collect what is not an exception.
CREATE TABLE collected (
  issue_id   INTEGER PRIMARY KEY REFERENCES issues (id),
  app_id     INTEGER NOT NULL REFERENCES apps (id),
  kind       TEXT NOT NULL CHECK (kind IN ('refused', 'warning', 'silent')),
  subject    TEXT NOT NULL,
  made_ms    INTEGER NOT NULL,
  person_id  INTEGER REFERENCES people (id),
  UNIQUE (app_id, kind, subject)
) STRICT;

-- How far each file of a day was looked through for an issue.
CREATE TABLE collected_to (
  issue_id  INTEGER NOT NULL REFERENCES collected (issue_id),
  day       INTEGER NOT NULL,
  place     INTEGER NOT NULL,
  PRIMARY KEY (issue_id, day)
) STRICT, WITHOUT ROWID;
