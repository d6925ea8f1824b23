-- Version 17 (2026-11): several people: roles, invitations, apps that only some see, one-time codes, sign-in by OpenID Connect.

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

-- An app that is limited is seen by owners and by those named here.
ALTER TABLE apps ADD COLUMN limited INTEGER NOT NULL DEFAULT 0;
CREATE TABLE app_people (
  app_id     INTEGER NOT NULL REFERENCES apps (id),
  person_id  INTEGER NOT NULL REFERENCES people (id),
  PRIMARY KEY (app_id, person_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX apps_limited ON apps (id) WHERE limited = 1;

-- A token may be for some apps alone: JSON, their numbers; absent for all that its person sees.
ALTER TABLE passes ADD COLUMN apps TEXT;
