-- Version 12 (2026-11): who calls whom. Calls come from runs that were sent whole, and stand for all runs that ended like these.

-- Of the runs of a row, how many were sent whole, and how long these took, in milliseconds.
ALTER TABLE run_slots ADD COLUMN whole INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run_slots ADD COLUMN whole_ms REAL NOT NULL DEFAULT 0;

-- Calls of runs that were sent whole, by the hour, and by five minutes for the latest days.
CREATE TABLE call_slots (
  minutes      INTEGER NOT NULL CHECK (minutes IN (5, 60)),
  slot         INTEGER NOT NULL,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  entry_point  TEXT NOT NULL,
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  outcome      TEXT NOT NULL CHECK (outcome IN ('', 'ok', 'refused', 'failed')),
  kind         TEXT NOT NULL CHECK (kind IN ('http', 'database', 'queue')),
  target       TEXT NOT NULL,                -- host, database or queue; '…' for those beyond the ones that are told apart
  below_ms     REAL NOT NULL,                -- the end of the bucket of durations; 0 beyond all of them, -1 where nothing is known
  calls        INTEGER NOT NULL,
  failed       INTEGER NOT NULL,
  spent_ms     REAL NOT NULL,
  PRIMARY KEY (minutes, slot, app_id, entry_point, release_id, environment, outcome, kind, target, below_ms)
) STRICT, WITHOUT ROWID;

-- The targets of an app that are told apart.
CREATE TABLE targets (
  app_id  INTEGER NOT NULL REFERENCES apps (id),
  kind    TEXT NOT NULL,
  name    TEXT NOT NULL,
  PRIMARY KEY (app_id, kind, name)
) STRICT, WITHOUT ROWID;

-- Under which names an app was called: what others call by that name is this app.
CREATE TABLE answered_at (
  kind    TEXT NOT NULL,
  name    TEXT NOT NULL,
  app_id  INTEGER NOT NULL REFERENCES apps (id),
  runs    INTEGER NOT NULL,
  PRIMARY KEY (kind, name, app_id)
) STRICT, WITHOUT ROWID;

-- Runs of one app that another one called, known by the span of the caller.
CREATE TABLE link_slots (
  minutes      INTEGER NOT NULL CHECK (minutes IN (5, 60)),
  slot         INTEGER NOT NULL,
  caller_id    INTEGER NOT NULL REFERENCES apps (id),
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  environment  TEXT NOT NULL,
  below_ms     REAL NOT NULL,
  runs         INTEGER NOT NULL,
  failed       INTEGER NOT NULL,
  PRIMARY KEY (minutes, slot, caller_id, app_id, environment, below_ms)
) STRICT, WITHOUT ROWID;

-- Spans of the latest runs, for a quarter of an hour.
CREATE TABLE latest_spans (
  span_id  BLOB PRIMARY KEY,
  app_id   INTEGER NOT NULL REFERENCES apps (id),
  came_ms  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
-- Those that are old, to be forgotten.
CREATE INDEX latest_spans_by_time ON latest_spans (came_ms);
-- Runs whose caller has not come yet.
CREATE TABLE uncalled (
  id           INTEGER PRIMARY KEY,
  parent       BLOB NOT NULL,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  environment  TEXT NOT NULL,
  time_ms      INTEGER NOT NULL,
  below_ms     REAL NOT NULL,
  failed       INTEGER NOT NULL,
  came_ms      INTEGER NOT NULL
) STRICT;
-- Those that wait for a caller, and those that are old.
CREATE INDEX uncalled_by_parent ON uncalled (parent);
CREATE INDEX uncalled_by_time ON uncalled (came_ms);
