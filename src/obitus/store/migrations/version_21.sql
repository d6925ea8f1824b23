-- Version 21 (2026-11): tracepoints, and what became of them in each running instance.

-- What people asked to see of a line, the next time that it runs.
CREATE TABLE tracepoints (
  id           INTEGER PRIMARY KEY,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  issue_id     INTEGER,                      -- the issue that it was set from
  environment  TEXT NOT NULL,                -- '' for all
  release      TEXT NOT NULL,                -- '' for any
  file         TEXT NOT NULL,
  line         INTEGER NOT NULL,
  asked        TEXT NOT NULL,                -- JSON: condition, values, message, what to collect, bounds, hosts, instances
  hash         TEXT NOT NULL,                -- SHA-256 of the file that it was set with; '' where it was not at hand
  code_hash    TEXT NOT NULL,                -- SHA-256 of the line of code that it was set on; '' where it was not at hand
  most_hits    INTEGER NOT NULL,             -- of all instances together
  person_id    INTEGER NOT NULL REFERENCES people (id),
  made_ms      INTEGER NOT NULL,
  until_ms     INTEGER NOT NULL,
  ended_ms     INTEGER,                      -- before its time
  ended_why    TEXT NOT NULL DEFAULT '',
  hits         INTEGER NOT NULL DEFAULT 0,
  latest_ms    INTEGER                       -- when the latest hit happened
) STRICT;
CREATE INDEX tracepoints_by_app ON tracepoints (app_id, until_ms);

-- What an instance last said of a tracepoint.
CREATE TABLE tracepoint_states (
  tracepoint_id INTEGER NOT NULL REFERENCES tracepoints (id),
  instance     TEXT NOT NULL,                -- service.instance.id
  app_id       INTEGER NOT NULL,
  host         TEXT NOT NULL,
  pid          INTEGER NOT NULL,
  release      TEXT NOT NULL,
  environment  TEXT NOT NULL,
  runtime      TEXT NOT NULL,
  state        TEXT NOT NULL,                -- stands, waits, not set, over
  said         TEXT NOT NULL,                -- JSON: why, trouble, the file, lines that would do instead
  looked       INTEGER NOT NULL,
  hits         INTEGER NOT NULL,
  left_out     INTEGER NOT NULL,
  cost_ms      REAL NOT NULL,
  said_ms      INTEGER NOT NULL,
  PRIMARY KEY (tracepoint_id, instance)
) STRICT, WITHOUT ROWID;
