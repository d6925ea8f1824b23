-- Version 3 (2026-11): fingerprints that are compared; merging, splitting and regrouping that can be undone; grouping rules.

ALTER TABLE fingerprints ADD COLUMN traits_id INTEGER;       -- what it is compared by; absent where nothing is compared
ALTER TABLE fingerprints ADD COLUMN joined TEXT NOT NULL DEFAULT '';  -- why it belongs to its issue, when it did not begin it
ALTER TABLE fingerprints ADD COLUMN apart_by TEXT;           -- JSON: attributes that its failures are kept apart by
-- Where a fingerprint leads, without the explanations: small enough to stay in memory however many there are.
CREATE INDEX fingerprints_lead ON fingerprints (app_id, fingerprint, issue_id, apart_by);
ALTER TABLE failures ADD COLUMN fingerprint TEXT NOT NULL DEFAULT '';  -- '' for those taken by version 2 and earlier
ALTER TABLE issues ADD COLUMN merged_into INTEGER REFERENCES issues (id);
ALTER TABLE reporting_keys ADD COLUMN makes_apps INTEGER NOT NULL DEFAULT 0;  -- may report for apps that it names, and make them

-- What a fingerprint is compared by. In the order they came: those looked at together, the newest, lie together.
CREATE TABLE fingerprint_traits (
  id           INTEGER PRIMARY KEY,
  fingerprint  TEXT NOT NULL,
  traits       TEXT NOT NULL                 -- JSON
) STRICT;

-- What fingerprints are found by when another one is new: a number for each thing that two may share.
CREATE TABLE fingerprint_keys (
  app_id     INTEGER NOT NULL REFERENCES apps (id),
  key        INTEGER NOT NULL,               -- a hash of what is shared
  traits_id  INTEGER NOT NULL REFERENCES fingerprint_traits (id),
  PRIMARY KEY (app_id, key, traits_id)
) STRICT, WITHOUT ROWID;

-- New issues per app and minute: beyond a limit, failures go to one collecting issue.
CREATE TABLE new_issues (
  app_id  INTEGER NOT NULL REFERENCES apps (id),
  minute  INTEGER NOT NULL,                  -- Unix minutes, by arrival
  made    INTEGER NOT NULL,
  PRIMARY KEY (app_id, minute)
) STRICT, WITHOUT ROWID;

-- Two issues that somebody said are never one.
CREATE TABLE never_together (
  issue_id    INTEGER NOT NULL REFERENCES issues (id),  -- the lower number
  other_id    INTEGER NOT NULL REFERENCES issues (id),
  person_id   INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  PRIMARY KEY (issue_id, other_id)
) STRICT, WITHOUT ROWID;

-- A grouping rule of the team: a condition, and what to do with the failures that match it.
CREATE TABLE grouping_rules (
  id          INTEGER PRIMARY KEY,
  rule        TEXT NOT NULL,                 -- CONDITION -> together | apart by … | ignore frames … | own code … | library code …
  person_id   INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  ended_ms    INTEGER
) STRICT;
CREATE UNIQUE INDEX grouping_rules_in_force ON grouping_rules (rule) WHERE ended_ms IS NULL;

-- A moving of failures from issue to issue: a merge, a split, or a regrouping. Can be undone.
CREATE TABLE regroupings (
  id          INTEGER PRIMARY KEY,
  kind        TEXT NOT NULL CHECK (kind IN ('merge', 'split', 'regroup')),
  said        TEXT NOT NULL,                 -- in words
  person_id   INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  state       TEXT NOT NULL CHECK (state IN ('running', 'done', 'undoing', 'undone', 'failed')),
  moved       INTEGER NOT NULL,              -- failures moved so far
  total       INTEGER NOT NULL,              -- failures to look at, or to move
  ended_ms    INTEGER
) STRICT;

-- Which failures a regrouping moved.
CREATE TABLE regrouped (
  regrouping_id  INTEGER NOT NULL REFERENCES regroupings (id),
  seq            INTEGER NOT NULL,
  from_issue     INTEGER NOT NULL,
  to_issue       INTEGER NOT NULL,
  PRIMARY KEY (regrouping_id, seq)
) STRICT, WITHOUT ROWID;

-- Which fingerprints a regrouping led elsewhere, and what it kept apart.
CREATE TABLE regrouped_fingerprints (
  regrouping_id  INTEGER NOT NULL REFERENCES regroupings (id),
  app_id         INTEGER NOT NULL,
  fingerprint    TEXT NOT NULL,
  from_issue     INTEGER,                    -- absent when the regrouping made the fingerprint
  to_issue       INTEGER NOT NULL,
  apart_before   TEXT,
  PRIMARY KEY (regrouping_id, app_id, fingerprint)
) STRICT, WITHOUT ROWID;
