-- Version 11 (2026-11): what is happening now: runs by answer code and duration, by the hour, and by five minutes for the latest days.

CREATE TABLE run_slots (
  minutes      INTEGER NOT NULL CHECK (minutes IN (5, 60)),
  slot         INTEGER NOT NULL,             -- so many times five minutes, or hours, since 1970-01-01, by when the count began
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  entry_point  TEXT NOT NULL,
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  outcome      TEXT NOT NULL CHECK (outcome IN ('ok', 'refused', 'failed')),
  status       INTEGER NOT NULL,             -- of the answer, 0 where there is none
  below_ms     REAL NOT NULL,                -- the end of the bucket of durations; 0 beyond all of them, -1 where nothing is known
  runs         INTEGER NOT NULL,
  PRIMARY KEY (minutes, slot, app_id, entry_point, release_id, environment, outcome, status, below_ms)
) STRICT, WITHOUT ROWID;
INSERT INTO run_slots SELECT 60, hour, app_id, entry_point, release_id, environment, outcome, 0, -1, runs FROM run_counts;

-- Regressions by when they came.
CREATE INDEX issue_history_regressed ON issue_history (time_ms, issue_id) WHERE to_state = 'regressed';
CREATE INDEX issues_by_first ON issues (first_ms, id);
