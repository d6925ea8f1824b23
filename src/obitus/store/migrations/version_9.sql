-- Version 9 (2026-11): what long windows count with, and whom an issue met.

-- Failures per issue, release, environment and day: the middle of a long window.
CREATE TABLE issue_days (
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  day          INTEGER NOT NULL,             -- days since 1970-01-01, by when it happened
  failures     INTEGER NOT NULL,
  PRIMARY KEY (issue_id, day, release_id, environment)
) STRICT, WITHOUT ROWID;
INSERT INTO issue_days SELECT issue_id, release_id, environment, hour / 24, SUM(failures) FROM issue_counts GROUP BY 1, 4, 2, 3;
CREATE INDEX issue_days_by_day ON issue_days (day, issue_id, environment, release_id, failures);

-- Failures per issue and user.
CREATE TABLE issue_users (
  issue_id  INTEGER NOT NULL REFERENCES issues (id),
  user_id   TEXT NOT NULL,
  failures  INTEGER NOT NULL,
  PRIMARY KEY (issue_id, user_id)
) STRICT, WITHOUT ROWID;
INSERT INTO issue_users SELECT issue_id, user_id, COUNT(*) FROM failures WHERE user_id IS NOT NULL GROUP BY 1, 2;
ALTER TABLE issues ADD COLUMN users INTEGER NOT NULL DEFAULT 0;
UPDATE issues SET users = (SELECT COUNT(*) FROM issue_users WHERE issue_id = issues.id);
