-- The schema of Obitus. Times are Unix milliseconds (UTC), ids made by senders are 16 bytes (UUIDv7).
-- Version 1 (2026-11): apps, keys, people, reports, failures, issues, counts, evidence.

-- An app: something that reports.
CREATE TABLE apps (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL UNIQUE,          -- lower case, digits, dashes; as people type it
  kind        TEXT NOT NULL,                 -- what the set-up page explains: fastapi, script
  created_ms  INTEGER NOT NULL
) STRICT;

-- A reporting key: may only send reports, for one app and one environment.
CREATE TABLE reporting_keys (
  id            INTEGER PRIMARY KEY,
  app_id        INTEGER NOT NULL REFERENCES apps (id),
  environment   TEXT NOT NULL,
  hash          BLOB NOT NULL UNIQUE,        -- SHA-256 of the key; the key itself is never kept
  hint          TEXT NOT NULL,               -- its last four characters, to tell keys apart
  created_ms    INTEGER NOT NULL,
  revoked_ms    INTEGER                      -- set once, never cleared
) STRICT;
CREATE INDEX reporting_keys_by_app ON reporting_keys (app_id);

-- Somebody who signs in.
CREATE TABLE people (
  id             INTEGER PRIMARY KEY,
  name           TEXT NOT NULL UNIQUE,
  role           TEXT NOT NULL CHECK (role IN ('owner')),
  password       TEXT,                       -- scrypt, salted, with its parameters; absent until one is chosen
  created_ms     INTEGER NOT NULL
) STRICT;

-- What lets a person in: a sign-in link (once), a session (a browser), a personal token (command line, API).
CREATE TABLE passes (
  hash         BLOB PRIMARY KEY,             -- SHA-256 of the secret
  id           TEXT NOT NULL UNIQUE,         -- names it without giving it away
  kind         TEXT NOT NULL CHECK (kind IN ('link', 'session', 'token')),
  person_id    INTEGER NOT NULL REFERENCES people (id),
  label        TEXT NOT NULL,                -- what the person called it
  created_ms   INTEGER NOT NULL,
  expires_ms   INTEGER,
  ended_ms     INTEGER                       -- used up, signed out or revoked
) STRICT, WITHOUT ROWID;

-- A version of an app, known since it was first reported.
CREATE TABLE releases (
  id        INTEGER PRIMARY KEY,
  app_id    INTEGER NOT NULL REFERENCES apps (id),
  version   TEXT NOT NULL,                   -- '' stands for reports that name no release
  first_ms  INTEGER NOT NULL,                -- earliest report
  UNIQUE (app_id, version)
) STRICT;

-- A zstd dictionary trained on reports of this installation.
CREATE TABLE dictionaries (
  id          INTEGER PRIMARY KEY,
  created_ms  INTEGER NOT NULL,
  body        BLOB NOT NULL
) STRICT;

-- Every report taken, whatever its kind. The pair (id, app) makes sending twice harmless.
CREATE TABLE reports (
  seq          INTEGER PRIMARY KEY,
  id           BLOB NOT NULL,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  kind         TEXT NOT NULL CHECK (kind IN ('failure', 'log', 'run', 'tally')),
  environment  TEXT NOT NULL,
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  time_ms      INTEGER NOT NULL,             -- when it happened, after correction of the sender's clock
  received_ms  INTEGER NOT NULL,
  UNIQUE (id, app_id)
) STRICT;
CREATE INDEX reports_by_app ON reports (app_id, received_ms);

-- The whole report as JSON, compressed. Read only when one report is shown.
CREATE TABLE evidence (
  seq            INTEGER PRIMARY KEY REFERENCES reports (seq),
  dictionary_id  INTEGER REFERENCES dictionaries (id),
  body           BLOB NOT NULL               -- a zstd frame
) STRICT;

-- An issue: all failures with one fingerprint, or several.
CREATE TABLE issues (
  id               INTEGER PRIMARY KEY,      -- the number people say
  app_id           INTEGER NOT NULL REFERENCES apps (id),
  type             TEXT NOT NULL,            -- exception type that came out
  cause            TEXT NOT NULL,            -- type of the root cause, '' when it is the same
  place            TEXT NOT NULL,            -- innermost own frame
  message          TEXT NOT NULL,            -- of the latest failure
  entry_point      TEXT NOT NULL,            -- of the latest failure, '' when it had none
  state            TEXT NOT NULL CHECK (state IN ('untriaged', 'accepted', 'settled', 'regressed', 'parked')),
  state_ms         INTEGER NOT NULL,         -- since when it is in that state
  settled_in       TEXT,                     -- release of the last settling
  settled_ms       INTEGER,
  first_ms         INTEGER NOT NULL,
  last_ms          INTEGER NOT NULL,
  first_seq        INTEGER NOT NULL,         -- its earliest failure
  last_seq         INTEGER NOT NULL,         -- its latest failure
  failures         INTEGER NOT NULL,
  stragglers       INTEGER NOT NULL
) STRICT;
CREATE INDEX issues_by_last ON issues (last_ms, id);
CREATE INDEX issues_by_state ON issues (state, state_ms);

-- Which fingerprint leads to which issue, and the parts that explain it.
CREATE TABLE fingerprints (
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  fingerprint  TEXT NOT NULL,
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  parts        TEXT NOT NULL,                -- JSON: [{kind, value, counted, reason}]
  PRIMARY KEY (app_id, fingerprint)
) STRICT, WITHOUT ROWID;
CREATE INDEX fingerprints_by_issue ON fingerprints (issue_id);

-- One failure: what is searched, sorted or counted. Everything else is in its evidence.
CREATE TABLE failures (
  seq          INTEGER PRIMARY KEY REFERENCES reports (seq),
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  release_id   INTEGER NOT NULL,             -- as in reports, kept here so that counting needs no join
  environment  TEXT NOT NULL,                -- likewise
  time_ms      INTEGER NOT NULL,
  severity     TEXT NOT NULL,
  handled      INTEGER NOT NULL,
  message      TEXT NOT NULL,
  entry_point  TEXT NOT NULL,
  user_id      TEXT,
  trace_id     BLOB,
  verdict      TEXT NOT NULL                 -- what it meant for its issue's state, in words; '' when nothing
) STRICT;
CREATE INDEX failures_by_issue ON failures (issue_id, time_ms, seq);
CREATE INDEX failures_by_time ON failures (time_ms, issue_id, environment, release_id);
CREATE INDEX failures_by_trace ON failures (trace_id) WHERE trace_id IS NOT NULL;

-- Failures per issue, release, environment and hour: what pages count with.
CREATE TABLE issue_counts (
  issue_id     INTEGER NOT NULL REFERENCES issues (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  hour         INTEGER NOT NULL,             -- Unix hours
  failures     INTEGER NOT NULL,
  PRIMARY KEY (issue_id, hour, release_id, environment)
) STRICT, WITHOUT ROWID;
CREATE INDEX issue_counts_by_hour ON issue_counts (hour, issue_id, environment, release_id, failures);

-- Runs per app, release, environment, entry point, outcome and hour, from tallies.
CREATE TABLE run_counts (
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  entry_point  TEXT NOT NULL,
  outcome      TEXT NOT NULL CHECK (outcome IN ('ok', 'refused', 'failed')),
  hour         INTEGER NOT NULL,
  runs         INTEGER NOT NULL,
  PRIMARY KEY (app_id, entry_point, hour, release_id, environment, outcome)
) STRICT, WITHOUT ROWID;

-- Every change of an issue's state, by a person or by a failure, with its reason.
CREATE TABLE issue_history (
  id          INTEGER PRIMARY KEY,
  issue_id    INTEGER NOT NULL REFERENCES issues (id),
  time_ms     INTEGER NOT NULL,
  person_id   INTEGER REFERENCES people (id),
  from_state  TEXT,
  to_state    TEXT NOT NULL,
  reason      TEXT NOT NULL,
  seq         INTEGER REFERENCES reports (seq)  -- the failure that caused it
) STRICT;
CREATE INDEX issue_history_by_issue ON issue_history (issue_id, id);

-- What people did beyond issues: keys made and revoked, sign-ins, passwords.
CREATE TABLE acts (
  id         INTEGER PRIMARY KEY,
  time_ms    INTEGER NOT NULL,
  person_id  INTEGER REFERENCES people (id),
  act        TEXT NOT NULL,
  subject    TEXT NOT NULL
) STRICT;
