-- Version 24 (2026-11): floods: failures that were counted, and that another one stands for.

-- Itself, and those like it that were only counted.
ALTER TABLE failures ADD COLUMN stands_for INTEGER NOT NULL DEFAULT 1;
-- How many of an issue's failures were only counted.
ALTER TABLE issues ADD COLUMN only_counted INTEGER NOT NULL DEFAULT 0;
-- Whose failures those are that another one stands for.
CREATE TABLE only_counted (
  seq       INTEGER NOT NULL,                -- the one that stands for them
  user_id   TEXT NOT NULL,                   -- '' where nobody is named
  failures  INTEGER NOT NULL,
  new       INTEGER NOT NULL,                -- so many of them that no rule over windows has counted yet
  PRIMARY KEY (seq, user_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX only_counted_new ON only_counted (seq) WHERE new > 0;
-- What counts failures finds how many each stands for in the index.
DROP INDEX failures_by_issue;
CREATE INDEX failures_by_issue ON failures (issue_id, time_ms, seq, stands_for);
DROP INDEX failures_by_time;
CREATE INDEX failures_by_time ON failures (time_ms, issue_id, environment, release_id, stands_for);
-- Failures by five minutes of their time, for as long as these are asked for.
CREATE TABLE failure_slots (
  slot         INTEGER NOT NULL,             -- five minutes since 1970
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  release_id   INTEGER NOT NULL,
  environment  TEXT NOT NULL,
  failures     INTEGER NOT NULL,
  PRIMARY KEY (slot, app_id, release_id, environment)
) STRICT, WITHOUT ROWID;
INSERT INTO failure_slots
SELECT time_ms / 300000, app_id, release_id, environment, COUNT(*) FROM failures
WHERE time_ms >= (SELECT MAX(time_ms) FROM failures) - 345600000 AND received_ms - time_ms < 345600000 GROUP BY 1, 2, 3, 4;
