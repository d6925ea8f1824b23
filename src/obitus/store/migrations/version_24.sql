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
