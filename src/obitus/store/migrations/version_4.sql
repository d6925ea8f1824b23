-- Version 4 (2026-11): releases in their order, deploys, settling by release, now or next, rates by release, commits.

ALTER TABLE releases ADD COLUMN behind_id INTEGER REFERENCES releases (id);  -- the release that a person put it behind
ALTER TABLE releases ADD COLUMN revision TEXT NOT NULL DEFAULT '';           -- the commit it was made of; '' when nobody said
CREATE INDEX releases_put_behind ON releases (app_id, behind_id) WHERE behind_id IS NOT NULL;
-- One spelling for one release: a leading v was kept so far.
UPDATE OR IGNORE releases SET version = substr(version, 2) WHERE version GLOB 'v[0-9]*.[0-9]*';
ALTER TABLE issues ADD COLUMN first_release_id INTEGER REFERENCES releases (id);
UPDATE issues SET first_release_id = (SELECT release_id FROM reports WHERE reports.seq = issues.first_seq);
CREATE INDEX issues_by_first_release ON issues (first_release_id);
CREATE INDEX issues_by_app ON issues (app_id, first_ms);
ALTER TABLE issue_history ADD COLUMN release_id INTEGER REFERENCES releases (id);  -- of the failure that caused it
UPDATE issue_history SET release_id = (SELECT release_id FROM reports WHERE reports.seq = issue_history.seq) WHERE to_state = 'regressed';
CREATE INDEX issue_history_regressions ON issue_history (release_id, issue_id) WHERE to_state = 'regressed';
CREATE INDEX run_counts_by_release ON run_counts (release_id, hour);
CREATE INDEX issue_counts_by_release ON issue_counts (release_id, hour, issue_id, environment);

-- A name that a release had before it was renamed, and is still reported by.
CREATE TABLE release_spellings (
  app_id      INTEGER NOT NULL REFERENCES apps (id),
  spelling    TEXT NOT NULL,
  release_id  INTEGER NOT NULL REFERENCES releases (id),
  PRIMARY KEY (app_id, spelling)
) STRICT, WITHOUT ROWID;

-- The arrival of a release in an environment: told by a person or a pipeline, or inferred from its first report.
CREATE TABLE deploys (
  id           INTEGER PRIMARY KEY,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  time_ms      INTEGER NOT NULL,
  inferred     INTEGER NOT NULL,
  canary       INTEGER NOT NULL DEFAULT 0,   -- beside the release that was live, not in its place
  told_by      TEXT NOT NULL DEFAULT ''      -- who told it; '' for an inferred one
) STRICT;
CREATE INDEX deploys_by_release ON deploys (release_id, environment, time_ms);
CREATE INDEX deploys_by_time ON deploys (time_ms);

-- What a person said when settling an issue, for one environment or ('') for everywhere. Replaced by the next decision.
CREATE TABLE settlings (
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  environment  TEXT NOT NULL,
  how          TEXT NOT NULL CHECK (how IN ('in', 'now', 'next')),
  release      TEXT,                         -- the release with the fix; with 'next' absent until it comes
  after        TEXT,                         -- with 'next': the newest release when it was said
  time_ms      INTEGER NOT NULL,
  PRIMARY KEY (issue_id, environment)
) STRICT, WITHOUT ROWID;
CREATE INDEX settlings_waiting ON settlings (issue_id) WHERE how = 'next' AND release IS NULL;
INSERT INTO settlings (issue_id, environment, how, release, time_ms)
SELECT id, '', CASE WHEN settled_in IS NULL THEN 'now' ELSE 'in' END, settled_in, settled_ms FROM issues
WHERE state IN ('settled', 'regressed') AND settled_ms IS NOT NULL;

-- Failures per issue, release, environment and entry point over all time: what rates are made of.
CREATE TABLE issue_releases (
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  entry_point  TEXT NOT NULL,                -- '…' for those beyond the first hundred
  failures     INTEGER NOT NULL,
  first_ms     INTEGER NOT NULL,
  last_ms      INTEGER NOT NULL,
  PRIMARY KEY (issue_id, release_id, environment, entry_point)
) STRICT, WITHOUT ROWID;
INSERT INTO issue_releases (issue_id, release_id, environment, entry_point, failures, first_ms, last_ms)
SELECT issue_id, release_id, environment, entry_point, COUNT(*), MIN(time_ms), MAX(time_ms) FROM failures
GROUP BY issue_id, release_id, environment, entry_point;
CREATE INDEX issue_releases_by_release ON issue_releases (release_id, issue_id);
CREATE INDEX issue_releases_by_point ON issue_releases (entry_point, issue_id);

-- Runs per release, environment and entry point over all time.
CREATE TABLE release_runs (
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  entry_point  TEXT NOT NULL,
  ok           INTEGER NOT NULL,
  refused      INTEGER NOT NULL,
  failed       INTEGER NOT NULL,
  PRIMARY KEY (release_id, environment, entry_point)
) STRICT, WITHOUT ROWID;
INSERT INTO release_runs (release_id, environment, entry_point, ok, refused, failed)
SELECT release_id, environment, entry_point, SUM(runs * (outcome = 'ok')), SUM(runs * (outcome = 'refused')),
  SUM(runs * (outcome = 'failed')) FROM run_counts GROUP BY release_id, environment, entry_point;

CREATE INDEX release_runs_by_point ON release_runs (entry_point, release_id);

-- Runs and failures per release, environment and hour: which releases were live when, and their sums.
CREATE TABLE release_hours (
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  hour         INTEGER NOT NULL,             -- Unix hours
  runs         INTEGER NOT NULL,
  failed       INTEGER NOT NULL,             -- runs that failed
  failures     INTEGER NOT NULL,
  PRIMARY KEY (release_id, environment, hour)
) STRICT, WITHOUT ROWID;
INSERT INTO release_hours (release_id, environment, hour, runs, failed, failures)
SELECT release_id, environment, hour, SUM(runs), SUM(failed), SUM(failures) FROM (
  SELECT release_id, environment, hour, runs, runs * (outcome = 'failed') AS failed, 0 AS failures FROM run_counts
  UNION ALL SELECT release_id, environment, hour, 0, 0, failures FROM issue_counts)
GROUP BY release_id, environment, hour;

-- A rate that stepped up with a release: of an issue, or (issue_id 0) of an entry point.
CREATE TABLE rate_steps (
  id               INTEGER PRIMARY KEY,
  release_id       INTEGER NOT NULL REFERENCES releases (id),
  environment      TEXT NOT NULL,
  issue_id         INTEGER NOT NULL,
  entry_point      TEXT NOT NULL,            -- '' for an issue
  against          TEXT NOT NULL,            -- JSON: the releases that it was compared with
  before_failures  INTEGER NOT NULL,
  before_runs      INTEGER NOT NULL,
  failures         INTEGER NOT NULL,
  runs             INTEGER NOT NULL,
  chance           REAL NOT NULL,
  sure             INTEGER NOT NULL,         -- whether it stands among all that was looked at; else it is perhaps so
  reason           TEXT NOT NULL,
  found_ms         INTEGER NOT NULL,
  ended_ms         INTEGER                   -- set when more reports showed that it was none, or that it ended
) STRICT;
CREATE UNIQUE INDEX rate_steps_standing ON rate_steps (release_id, environment, issue_id, entry_point) WHERE ended_ms IS NULL;
CREATE INDEX rate_steps_by_issue ON rate_steps (issue_id);

-- An issue that first showed on an entry point after another one there was settled.
CREATE TABLE uncoverings (
  issue_id     INTEGER PRIMARY KEY REFERENCES issues (id),
  by_issue     INTEGER NOT NULL REFERENCES issues (id),
  entry_point  TEXT NOT NULL,
  reason       TEXT NOT NULL,
  found_ms     INTEGER NOT NULL
) STRICT;
CREATE INDEX uncoverings_by_other ON uncoverings (by_issue);

-- A commit of a release: what it touched is beside it, source is not.
CREATE TABLE commits (
  id          INTEGER PRIMARY KEY,
  release_id  INTEGER NOT NULL REFERENCES releases (id),
  hash        TEXT NOT NULL,
  time_ms     INTEGER NOT NULL,
  author      TEXT NOT NULL,
  subject     TEXT NOT NULL,
  files       INTEGER NOT NULL,              -- how many files it touched
  UNIQUE (release_id, hash)
) STRICT;

-- A file that a commit touched, with lines as they stand in the release.
CREATE TABLE commit_files (
  commit_id  INTEGER NOT NULL REFERENCES commits (id),
  path       TEXT NOT NULL,
  ranges     TEXT NOT NULL,                  -- JSON: [[first, last], …]
  names      TEXT NOT NULL,                  -- JSON: functions, classes and constants touched
  PRIMARY KEY (commit_id, path)
) STRICT, WITHOUT ROWID;

-- A library whose version a commit changed.
CREATE TABLE commit_libraries (
  commit_id  INTEGER NOT NULL REFERENCES commits (id),
  name       TEXT NOT NULL,
  before     TEXT NOT NULL,
  after      TEXT NOT NULL,
  PRIMARY KEY (commit_id, name)
) STRICT, WITHOUT ROWID;

-- What commits of a release are found by: the last part of a path (f), a name (n), a library (l).
CREATE TABLE commit_keys (
  release_id  INTEGER NOT NULL REFERENCES releases (id),
  kind        TEXT NOT NULL CHECK (kind IN ('f', 'n', 'l')),
  key         TEXT NOT NULL,
  commit_id   INTEGER NOT NULL REFERENCES commits (id),
  PRIMARY KEY (release_id, kind, key, commit_id)
) STRICT, WITHOUT ROWID;
