-- Version 17 (2026-11): several people: roles, invitations, apps that only some see, one-time codes, sign-in by OpenID Connect.

-- Somebody who signs in.
CREATE TABLE people_then (
  id             INTEGER PRIMARY KEY,
  name           TEXT NOT NULL UNIQUE,       -- stays with whoever was removed, so that what they did bears it
  role           TEXT NOT NULL CHECK (role IN ('owner', 'member', 'reader')),
  password       TEXT,                       -- hashed, salted, with its parameters; absent until one is chosen
  code_secret    TEXT,                       -- what their one-time codes are computed from (RFC 6238), once a first code was given
  code_offered   TEXT,                       -- the same, offered and not confirmed by a code yet
  code_step      INTEGER NOT NULL DEFAULT 0, -- the period of the latest code that was used: none is good twice
  issuer         TEXT,                       -- who vouches for them, and by what name (OpenID Connect: iss, sub)
  subject        TEXT,
  created_ms     INTEGER NOT NULL,
  removed_ms     INTEGER
) STRICT;
INSERT INTO people_then (id, name, role, password, created_ms) SELECT id, name, role, password, created_ms FROM people;
DROP TABLE people;
ALTER TABLE people_then RENAME TO people;
CREATE UNIQUE INDEX people_by_subject ON people (issuer, subject) WHERE subject IS NOT NULL;

-- An invitation: a link with which somebody becomes one of the people, once.
CREATE TABLE invitations (
  hash        BLOB PRIMARY KEY,              -- SHA-256 of the secret
  id          TEXT NOT NULL UNIQUE,          -- names it without giving it away
  label       TEXT NOT NULL,                 -- whom it is for
  role        TEXT NOT NULL CHECK (role IN ('owner', 'member', 'reader')),
  apps        TEXT NOT NULL,                 -- JSON: numbers of the limited apps that they will see
  made_by     INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  expires_ms  INTEGER NOT NULL,
  ended_ms    INTEGER,                       -- used or withdrawn
  person_id   INTEGER REFERENCES people (id) -- who came by it
) STRICT, WITHOUT ROWID;

ALTER TABLE apps ADD COLUMN limited INTEGER NOT NULL DEFAULT 0;  -- seen by owners and those named for it alone

-- Who sees an app that is limited, beside owners.
CREATE TABLE app_people (
  app_id     INTEGER NOT NULL REFERENCES apps (id),
  person_id  INTEGER NOT NULL REFERENCES people (id),
  PRIMARY KEY (app_id, person_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX apps_limited ON apps (id) WHERE limited = 1;

-- A token may be for some apps alone: JSON, their numbers; absent for all that its person sees.
ALTER TABLE passes ADD COLUMN apps TEXT;

-- What a person wrote on an issue: a note, or a check, which is a note with what was looked at and what was found.
CREATE TABLE notes (
  id          INTEGER PRIMARY KEY,
  issue_id    INTEGER NOT NULL REFERENCES issues (id),
  person_id   INTEGER NOT NULL REFERENCES people (id),
  time_ms     INTEGER NOT NULL,
  looked_at   TEXT NOT NULL,                 -- '' for a note
  found       TEXT NOT NULL CHECK (found IN ('', 'ruled out', 'suspicious', 'unclear')),
  text        TEXT NOT NULL,                 -- Markdown
  output      TEXT NOT NULL,                 -- what a command printed, as it came
  version     INTEGER NOT NULL,              -- grows with each change
  changed_ms  INTEGER,
  removed_ms  INTEGER
) STRICT;
CREATE INDEX notes_by_issue ON notes (issue_id, id);
CREATE INDEX notes_by_time ON notes (time_ms);

-- What a note said before it was changed.
CREATE TABLE note_versions (
  note_id    INTEGER NOT NULL REFERENCES notes (id),
  version    INTEGER NOT NULL,
  person_id  INTEGER NOT NULL REFERENCES people (id),
  time_ms    INTEGER NOT NULL,
  looked_at  TEXT NOT NULL,
  found      TEXT NOT NULL,
  text       TEXT NOT NULL,
  PRIMARY KEY (note_id, version)
) STRICT, WITHOUT ROWID;

-- A file that somebody put to an issue. It is kept as it came, and never shown in a page.
CREATE TABLE attachments (
  id          INTEGER PRIMARY KEY,
  issue_id    INTEGER NOT NULL REFERENCES issues (id),
  person_id   INTEGER NOT NULL REFERENCES people (id),
  time_ms     INTEGER NOT NULL,
  name        TEXT NOT NULL,
  type        TEXT NOT NULL,                 -- as its sender says
  bytes       INTEGER NOT NULL,
  body        BLOB NOT NULL,                 -- a zstd frame
  removed_ms  INTEGER
) STRICT;
CREATE INDEX attachments_by_issue ON attachments (issue_id, id);

-- What is looked at when something is wrong: a list that the team keeps, for an app or for all.
CREATE TABLE check_lists (
  id          INTEGER PRIMARY KEY,
  app_id      INTEGER REFERENCES apps (id),  -- absent for all apps
  name        TEXT NOT NULL,                 -- the kind of trouble
  items       TEXT NOT NULL,                 -- JSON: what to look at, each with a command that may help
  version     INTEGER NOT NULL,
  person_id   INTEGER NOT NULL REFERENCES people (id),
  changed_ms  INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX check_lists_by_name ON check_lists (COALESCE(app_id, 0), name);

-- How the team writes of tickets and the like, and where these are: SL-{number}.
CREATE TABLE link_patterns (
  id          INTEGER PRIMARY KEY,
  pattern     TEXT NOT NULL UNIQUE,
  address     TEXT NOT NULL,
  person_id   INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL
) STRICT;

-- Who has an issue: takes care of it. And whom or what it waits for, in words.
ALTER TABLE issues ADD COLUMN holder_id INTEGER REFERENCES people (id);
ALTER TABLE issues ADD COLUMN waits_for TEXT NOT NULL DEFAULT '';
CREATE INDEX issues_by_holder ON issues (holder_id, state) WHERE holder_id IS NOT NULL;

-- How much somebody said that an issue matters; absent where that is worked out.
ALTER TABLE issues ADD COLUMN priority TEXT CHECK (priority IN ('high', 'middle', 'low'));
ALTER TABLE issues ADD COLUMN priority_by INTEGER REFERENCES people (id);
