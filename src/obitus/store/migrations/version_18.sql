-- Version 18 (2026-11): issues parked until something, decisions that can be taken back, rules for whom an issue is handed to.

-- Until what an issue is parked; a row for one that something brings back, as long as it is parked.
CREATE TABLE parkings (
  issue_id    INTEGER PRIMARY KEY REFERENCES issues (id),
  time_ms     INTEGER NOT NULL,              -- when it was parked: what happened before does not count
  until_ms    INTEGER,
  failures    INTEGER,                       -- so many more
  an_hour     INTEGER,                       -- so many within one hour
  people      INTEGER,                       -- so many more
  another     TEXT NOT NULL,                 -- JSON: a failure in another of these: release, environment, app
  newest      TEXT,                          -- the newest release known then
  failed      INTEGER NOT NULL,              -- failures since
  users_then  INTEGER NOT NULL
) STRICT;
CREATE INDEX parkings_by_time ON parkings (until_ms) WHERE until_ms IS NOT NULL;
CREATE INDEX parkings_of_apps ON parkings (issue_id) WHERE another LIKE '%"app"%';

-- Why an issue that was parked came back, until somebody decides on it.
ALTER TABLE issues ADD COLUMN reopened TEXT NOT NULL DEFAULT '';
CREATE INDEX issues_reopened ON issues (state_ms) WHERE reopened <> '';

-- What a person decided at once, on one issue or many; it can be taken back as long as it is kept.
CREATE TABLE decisions (
  id          INTEGER PRIMARY KEY,
  person_id   INTEGER NOT NULL REFERENCES people (id),
  time_ms     INTEGER NOT NULL,
  said        TEXT NOT NULL,                 -- what was done, in words, without the issues
  undone_ms   INTEGER,
  undone_by   INTEGER REFERENCES people (id)
) STRICT;
CREATE INDEX decisions_by_time ON decisions (time_ms);

-- How each of these issues was before.
CREATE TABLE decided_issues (
  decision_id  INTEGER NOT NULL REFERENCES decisions (id),
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  history_id   INTEGER NOT NULL,             -- the row of its history that the decision left: a later one is somebody else's
  before       TEXT NOT NULL,                -- JSON
  PRIMARY KEY (decision_id, issue_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX decided_issues_by_issue ON decided_issues (issue_id);

-- Whom new issues are handed to that nobody has: a condition and a person.
CREATE TABLE handing_rules (
  id          INTEGER PRIMARY KEY,
  rule        TEXT NOT NULL,
  person_id   INTEGER NOT NULL REFERENCES people (id),  -- who made it
  created_ms  INTEGER NOT NULL,
  ended_ms    INTEGER
) STRICT;
CREATE UNIQUE INDEX handing_rules_once ON handing_rules (rule) WHERE ended_ms IS NULL;

-- Who owns which files of an app, as its team keeps it in the repository.
CREATE TABLE owner_files (
  app_id      INTEGER PRIMARY KEY REFERENCES apps (id),
  body        TEXT NOT NULL,                 -- as it was read
  beneath     TEXT NOT NULL,                 -- the folder of the repository that the app's paths begin in; '' for its root
  person_id   INTEGER NOT NULL REFERENCES people (id),
  changed_ms  INTEGER NOT NULL
) STRICT;

-- Who is meant by an owner's name in such files, where it is not the person's own.
CREATE TABLE owner_names (
  owner       TEXT PRIMARY KEY,              -- in small letters: @mara, @skerry/fares, mara@skerry.example
  person_id   INTEGER NOT NULL REFERENCES people (id)
) STRICT, WITHOUT ROWID;

-- Looked for among settled issues: those that an open one looks like. Among open ones: what waits.
CREATE INDEX issues_settled_by_place ON issues (place, settled_ms) WHERE settled_ms IS NOT NULL;
CREATE INDEX issues_settled_by_type ON issues (type, settled_ms) WHERE settled_ms IS NOT NULL;
CREATE INDEX issues_settled_by_point ON issues (app_id, entry_point, settled_ms) WHERE settled_ms IS NOT NULL;
CREATE INDEX issues_waiting ON issues (state_ms) WHERE waits_for <> '';
