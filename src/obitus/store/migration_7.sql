-- Version 7 (2026-11): names that senders choose are bounded, and apps and releases can be removed.

-- A removed app is hidden at once; what it reported is deleted bit by bit.
ALTER TABLE apps ADD COLUMN removed_ms INTEGER;
-- A removed release is told apart no longer; its failures stay. A report that names it brings it back.
ALTER TABLE releases ADD COLUMN removed_ms INTEGER;

-- An entry point whose runs are counted by its name: bounded for each app.
CREATE TABLE entry_points (
  app_id  INTEGER NOT NULL REFERENCES apps (id),
  name    TEXT NOT NULL,
  PRIMARY KEY (app_id, name)
) STRICT, WITHOUT ROWID;
INSERT INTO entry_points SELECT DISTINCT app_id, entry_point FROM run_counts;

-- An environment that a sender or a deploy named: bounded for each app.
CREATE TABLE environments (
  app_id  INTEGER NOT NULL REFERENCES apps (id),
  name    TEXT NOT NULL,
  PRIMARY KEY (app_id, name)
) STRICT, WITHOUT ROWID;
INSERT INTO environments SELECT DISTINCT app_id, environment FROM deploys UNION SELECT app_id, environment FROM reporting_keys;

-- Whatever is deleted is looked for where something still refers to it.
CREATE INDEX issue_history_by_seq ON issue_history (seq) WHERE seq IS NOT NULL;
CREATE INDEX issues_by_merged ON issues (merged_into) WHERE merged_into IS NOT NULL;
CREATE INDEX apps_removed ON apps (id) WHERE removed_ms IS NOT NULL;
