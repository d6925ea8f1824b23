-- Version 8 (2026-11): what was reported lies in one file for each day, in the folder days. What is left here counts it.

-- A day of which something was reported. Its file is committed before this row; what it holds beyond last_place does not count.
CREATE TABLE days (
  day          INTEGER PRIMARY KEY,          -- days since 1970-01-01; 0 for reports without a usable time
  last_place   INTEGER NOT NULL,             -- the last number given in its file
  reports      INTEGER NOT NULL,
  earliest_ms  INTEGER NOT NULL,             -- of what its reports say about when they happened
  latest_ms    INTEGER NOT NULL,
  removed_ms   INTEGER,                      -- when its file was removed; reports that come late make another
  removed_why  TEXT NOT NULL DEFAULT ''      -- in words: "after 30 days"
) STRICT;
INSERT INTO days (day, last_place, reports, earliest_ms, latest_ms)
SELECT m.day, MAX(m.place), COUNT(*), MIN(r.time_ms), MAX(r.time_ms) FROM moved m JOIN reports r ON r.seq = m.old GROUP BY m.day;

ALTER TABLE apps ADD COLUMN first_report_ms INTEGER;
ALTER TABLE apps ADD COLUMN last_report_ms INTEGER;
UPDATE apps SET (first_report_ms, last_report_ms) = (SELECT MIN(received_ms), MAX(received_ms) FROM reports WHERE app_id = apps.id);
CREATE INDEX acts_by_act ON acts (act);
-- Set once nothing is left of a removed app.
ALTER TABLE apps ADD COLUMN emptied_ms INTEGER;
DROP INDEX apps_removed;
CREATE INDEX apps_to_empty ON apps (id) WHERE removed_ms IS NOT NULL AND emptied_ms IS NULL;

-- One failure: what is searched, sorted or counted. Everything else is in its evidence, in its day's file.
CREATE TABLE failures_now (
  seq                 INTEGER PRIMARY KEY,   -- its day, times 2^32, and its place in that day's file
  id                  BLOB NOT NULL,         -- given by its sender
  app_id              INTEGER NOT NULL REFERENCES apps (id),
  issue_id            INTEGER NOT NULL REFERENCES issues (id),
  release_id          INTEGER NOT NULL REFERENCES releases (id),
  environment         TEXT NOT NULL,
  time_ms             INTEGER NOT NULL,      -- when it happened, after correction of the sender's clock
  received_ms         INTEGER NOT NULL,
  severity            TEXT NOT NULL,
  handled             INTEGER NOT NULL,
  message             TEXT NOT NULL,
  entry_point         TEXT NOT NULL,
  user_id             TEXT,
  trace_id            BLOB,
  verdict             TEXT NOT NULL,         -- what it meant for its issue's state, in words; '' when nothing
  from_older_release  INTEGER NOT NULL,      -- whether it came from a release before the one with the fix
  fingerprint         TEXT NOT NULL          -- '' for those taken by version 2 and earlier
) STRICT;
INSERT INTO failures_now
SELECT m.new, r.id, r.app_id, f.issue_id, f.release_id, f.environment, f.time_ms, r.received_ms, f.severity, f.handled, f.message,
  f.entry_point, f.user_id, f.trace_id, f.verdict, f.verdict LIKE 'From an older release:%', f.fingerprint
FROM failures f JOIN moved m ON m.old = f.seq JOIN reports r ON r.seq = f.seq ORDER BY m.new;
DROP TABLE failures;
ALTER TABLE failures_now RENAME TO failures;
CREATE INDEX failures_by_issue ON failures (issue_id, time_ms, seq);
CREATE INDEX failures_by_time ON failures (time_ms, issue_id, environment, release_id);
CREATE INDEX failures_by_trace ON failures (trace_id) WHERE trace_id IS NOT NULL;
CREATE INDEX failures_by_id ON failures (id);
UPDATE issues SET first_seq = COALESCE((SELECT new FROM moved WHERE old = first_seq), first_seq),
  last_seq = COALESCE((SELECT new FROM moved WHERE old = last_seq), last_seq);

-- Every change of an issue's state, by a person or by a failure, with its reason.
CREATE TABLE issue_history_now (
  id          INTEGER PRIMARY KEY,
  issue_id    INTEGER NOT NULL REFERENCES issues (id),
  time_ms     INTEGER NOT NULL,
  person_id   INTEGER REFERENCES people (id),
  from_state  TEXT,
  to_state    TEXT NOT NULL,
  reason      TEXT NOT NULL,
  seq         INTEGER,                       -- the failure that caused it
  release_id  INTEGER REFERENCES releases (id)  -- of the failure that caused it
) STRICT;
INSERT INTO issue_history_now
SELECT id, issue_id, time_ms, person_id, from_state, to_state, reason, (SELECT new FROM moved WHERE old = seq), release_id FROM issue_history;
DROP TABLE issue_history;
ALTER TABLE issue_history_now RENAME TO issue_history;
CREATE INDEX issue_history_by_issue ON issue_history (issue_id, id);
CREATE INDEX issue_history_regressions ON issue_history (release_id, issue_id) WHERE to_state = 'regressed';
CREATE INDEX issue_history_by_seq ON issue_history (seq) WHERE seq IS NOT NULL;

-- How many runs a tally counted that may be sent again with more, and where. Then only what is new is counted.
CREATE TABLE growing_tallies_now (
  seq          INTEGER PRIMARY KEY,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  time_ms      INTEGER NOT NULL,
  runs         INTEGER NOT NULL
) STRICT;
INSERT INTO growing_tallies_now
SELECT m.new, r.app_id, r.release_id, r.environment, r.time_ms, g.runs
FROM growing_tallies g JOIN moved m ON m.old = g.seq JOIN reports r ON r.seq = g.seq;
DROP TABLE growing_tallies;
ALTER TABLE growing_tallies_now RENAME TO growing_tallies;

-- Which failures a regrouping moved.
CREATE TABLE regrouped_now (
  regrouping_id  INTEGER NOT NULL REFERENCES regroupings (id),
  seq            INTEGER NOT NULL,
  from_issue     INTEGER NOT NULL,
  to_issue       INTEGER NOT NULL,
  PRIMARY KEY (regrouping_id, seq)
) STRICT, WITHOUT ROWID;
INSERT INTO regrouped_now SELECT g.regrouping_id, m.new, g.from_issue, g.to_issue FROM regrouped g JOIN moved m ON m.old = g.seq;
DROP TABLE regrouped;
ALTER TABLE regrouped_now RENAME TO regrouped;

DROP TABLE evidence;
DROP TABLE reports;
DROP TABLE moved;

-- What happened, in order, written in the transaction in which it did. The newest is never removed, so that no number comes again.
CREATE TABLE events (
  id       INTEGER PRIMARY KEY,
  time_ms  INTEGER NOT NULL,
  kind     TEXT NOT NULL,
  subject  TEXT NOT NULL                     -- JSON: what it is about, such as {"app": "sailings", "issue": 5}
) STRICT;

-- How far each job has read the events. After a kill it goes on there: at least once, in order.
CREATE TABLE positions (
  job       TEXT PRIMARY KEY,
  event_id  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- From where reports came since the rates were looked at.
CREATE TABLE rates_due (
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  batches      INTEGER NOT NULL,             -- grows with each batch, so that what comes while they are looked at is not forgotten
  PRIMARY KEY (release_id, environment)
) STRICT, WITHOUT ROWID;
