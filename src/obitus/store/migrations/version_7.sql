-- Version 7 (2026-11): names that senders choose are bounded, and apps and releases can be removed.

-- A removed app is hidden at once; what it reported is deleted bit by bit.
ALTER TABLE apps ADD COLUMN removed_ms INTEGER;
-- A removed release is no longer listed; its failures stay. A report that names it brings it back.
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

-- Named as pages and commands name them.
ALTER TABLE reporting_keys RENAME COLUMN makes_apps TO may_add_apps;
ALTER TABLE issues RENAME COLUMN first_release_id TO began_in_id;
ALTER TABLE issues RENAME COLUMN stragglers TO from_older_releases;
UPDATE failures SET verdict = 'From an older release:' || substr(verdict, 11) WHERE verdict LIKE 'Straggler:%';
ALTER TABLE uncoverings RENAME TO revealings;

-- From when an issue is fixed: from a release, from now, or from the coming release.
CREATE TABLE settlings_now (
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  environment  TEXT NOT NULL,
  how          TEXT NOT NULL CHECK (how IN ('release', 'now', 'coming')),
  release      TEXT,                         -- the release with the fix; with 'coming' absent until it comes
  after        TEXT,                         -- with 'coming': the newest release when it was said
  time_ms      INTEGER NOT NULL,
  PRIMARY KEY (issue_id, environment)
) STRICT, WITHOUT ROWID;
INSERT INTO settlings_now SELECT issue_id, environment, CASE how WHEN 'in' THEN 'release' WHEN 'next' THEN 'coming' ELSE how END, release, after, time_ms FROM settlings;
DROP TABLE settlings;
ALTER TABLE settlings_now RENAME TO settlings;
CREATE INDEX settlings_waiting ON settlings (issue_id) WHERE how = 'coming' AND release IS NULL;

-- Grouping rules begin with what they do: "together when type=KeyError".
UPDATE grouping_rules SET rule = replace(substr(rule, instr(rule, ' -> ') + 4), 'ignore frames ', 'skip frames ') || ' when ' || substr(rule, 1, instr(rule, ' -> ') - 1)
WHERE instr(rule, ' -> ') > 0;
