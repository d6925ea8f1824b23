-- Version 19 (2026-11): alert rules, channels, firings and their messages; targets that records are passed on to.

-- Where messages are delivered.
CREATE TABLE channels (
  id              INTEGER PRIMARY KEY,
  name            TEXT NOT NULL,
  kind            TEXT NOT NULL CHECK (kind IN ('mail', 'webhook', 'command', 'file', 'console')),
  settings        TEXT NOT NULL,             -- JSON: what may be shown again
  secrets         BLOB,                      -- encrypted with the key beside the store
  template        TEXT NOT NULL,             -- of the body of a webhook; '' for a CloudEvent
  person_id       INTEGER REFERENCES people (id), -- whose it is: their quiet hours hold; absent for the team's
  digest_at       TEXT NOT NULL,             -- '' for no digest; 08:00 for each day, mon 08:00 for each week
  digest_zone     TEXT NOT NULL,
  digest_next_ms  INTEGER,
  made_by         INTEGER NOT NULL REFERENCES people (id),
  changed_ms      INTEGER NOT NULL,
  removed_ms      INTEGER
) STRICT;
CREATE UNIQUE INDEX channels_by_name ON channels (name) WHERE removed_ms IS NULL;
CREATE INDEX channels_by_digest ON channels (digest_next_ms) WHERE digest_next_ms IS NOT NULL;

-- When a person is not written to.
CREATE TABLE quiet_hours (
  person_id  INTEGER PRIMARY KEY REFERENCES people (id),
  hours      TEXT NOT NULL,                  -- 22:00-07:00, or with days before it
  zone       TEXT NOT NULL
) STRICT;

-- What people want to be told: a condition, and the channels that are told when it holds.
CREATE TABLE alert_rules (
  id                 INTEGER PRIMARY KEY,
  name               TEXT NOT NULL,
  condition          TEXT NOT NULL,
  priority           TEXT NOT NULL CHECK (priority IN ('high', 'middle', 'low')),
  at_most_an_hour    INTEGER NOT NULL,       -- messages; what fires beyond that is said in the next one
  escalate_after_ms  INTEGER,
  source             TEXT NOT NULL,          -- the file that it was applied from; '' for one made by hand
  counted_from_ms    INTEGER,                -- since when its amounts are kept; absent where none are
  person_id          INTEGER NOT NULL REFERENCES people (id),
  created_ms         INTEGER NOT NULL,
  changed_ms         INTEGER NOT NULL,
  ended_ms           INTEGER
) STRICT;
CREATE UNIQUE INDEX alert_rules_by_name ON alert_rules (name) WHERE ended_ms IS NULL;

-- Which rule tells which channel.
CREATE TABLE alert_rule_channels (
  rule_id     INTEGER NOT NULL REFERENCES alert_rules (id),
  channel_id  INTEGER NOT NULL REFERENCES channels (id),
  escalates   INTEGER NOT NULL,              -- whether it is told when nobody accepts in time
  PRIMARY KEY (rule_id, channel_id, escalates)
) STRICT, WITHOUT ROWID;

-- What rules over windows have counted of failures and logs, by the minute and by the hour.
CREATE TABLE alert_amounts (
  rule_id    INTEGER NOT NULL REFERENCES alert_rules (id),
  minutes    INTEGER NOT NULL CHECK (minutes IN (1, 60)),
  slot       INTEGER NOT NULL,
  group_key  TEXT NOT NULL,                  -- JSON: the values of its groups
  part       TEXT NOT NULL,                  -- a bucket of numbers, or a person; '' where neither is asked for
  n          INTEGER NOT NULL,
  figure     REAL NOT NULL,
  PRIMARY KEY (rule_id, minutes, slot, group_key, part)
) STRICT, WITHOUT ROWID;

-- How far each day file has been counted for them.
CREATE TABLE alert_counted (
  day    INTEGER PRIMARY KEY,
  place  INTEGER NOT NULL
) STRICT;

-- One time that a rule held.
CREATE TABLE firings (
  id            INTEGER PRIMARY KEY,
  rule_id       INTEGER NOT NULL REFERENCES alert_rules (id),
  group_key     TEXT NOT NULL,               -- JSON: the values of its groups; '[]' for none
  event_id      INTEGER,                     -- of a rule over events
  issue_id      INTEGER,
  app_id        INTEGER,                     -- absent where it is of several apps
  environment   TEXT NOT NULL,               -- '' where it is not of one
  begun_ms      INTEGER NOT NULL,
  noted_ms      INTEGER NOT NULL,            -- when the service knew
  over_ms       INTEGER,
  value         REAL,
  bound         REAL,                        -- what it was over or under
  worst         REAL,
  reason        TEXT NOT NULL,
  course        TEXT NOT NULL,               -- JSON: what came before, for a picture
  records       TEXT NOT NULL,               -- JSON: which records caused it: kind, question, start, end
  held_back     TEXT NOT NULL,               -- why nothing was sent of it; '' where something was
  accepted_ms   INTEGER,
  accepted_by   TEXT NOT NULL,               -- in words
  escalates_ms  INTEGER,                     -- when others are told, unless somebody accepts
  escalated_ms  INTEGER
) STRICT;
CREATE UNIQUE INDEX firings_by_event ON firings (rule_id, event_id) WHERE event_id IS NOT NULL;
CREATE UNIQUE INDEX firings_open ON firings (rule_id, group_key) WHERE over_ms IS NULL AND event_id IS NULL;
CREATE INDEX firings_by_time ON firings (begun_ms);
CREATE INDEX firings_of_rule ON firings (rule_id, begun_ms);
CREATE INDEX firings_of_issue ON firings (issue_id, begun_ms) WHERE issue_id IS NOT NULL;
CREATE INDEX firings_to_escalate ON firings (escalates_ms) WHERE escalates_ms IS NOT NULL AND escalated_ms IS NULL AND accepted_ms IS NULL;

-- What is delivered to one channel.
CREATE TABLE messages (
  id            INTEGER PRIMARY KEY,
  uid           TEXT NOT NULL UNIQUE,        -- goes with it: the same message twice has the same
  channel_id    INTEGER NOT NULL REFERENCES channels (id),
  kind          TEXT NOT NULL CHECK (kind IN ('firing', 'over', 'escalation', 'digest', 'test')),
  subject       TEXT NOT NULL,               -- what it is about: messages with the same one are kept together
  made_ms       INTEGER NOT NULL,
  due_ms        INTEGER NOT NULL,            -- not before
  due_why       TEXT NOT NULL,               -- why it waits, '' where it does not
  held_back     INTEGER NOT NULL DEFAULT 0,  -- firings that went out with none, and are said in this one
  text          TEXT NOT NULL,               -- of a digest or a test; '' where it is made of its firings
  tries         INTEGER NOT NULL DEFAULT 0,
  next_ms       INTEGER,                     -- when it is tried again
  answer        TEXT NOT NULL DEFAULT '',    -- of the last try
  delivered_ms  INTEGER,
  given_up_ms   INTEGER
) STRICT;
CREATE INDEX messages_waiting ON messages (channel_id, id) WHERE delivered_ms IS NULL AND given_up_ms IS NULL;
CREATE INDEX messages_about ON messages (channel_id, subject, id);
CREATE INDEX messages_by_time ON messages (made_ms);

-- Which firings a message tells of.
CREATE TABLE message_firings (
  message_id  INTEGER NOT NULL REFERENCES messages (id),
  firing_id   INTEGER NOT NULL REFERENCES firings (id),
  PRIMARY KEY (message_id, firing_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX message_firings_by_firing ON message_firings (firing_id);

-- What can be done by a link in a message, once.
CREATE TABLE message_links (
  hash        BLOB PRIMARY KEY,              -- SHA-256 of the secret
  message_id  INTEGER NOT NULL REFERENCES messages (id),
  act         TEXT NOT NULL CHECK (act IN ('accept', 'park', 'silence')),
  firing_id   INTEGER NOT NULL REFERENCES firings (id),
  expires_ms  INTEGER NOT NULL,
  used_ms     INTEGER
) STRICT, WITHOUT ROWID;
CREATE INDEX message_links_by_message ON message_links (message_id);

-- A time in which rules send nothing; of all rules, apps, environments and issues where none is named.
CREATE TABLE silences (
  id           INTEGER PRIMARY KEY,
  from_ms      INTEGER NOT NULL,
  until_ms     INTEGER NOT NULL,
  rule_id      INTEGER REFERENCES alert_rules (id),
  app_id       INTEGER REFERENCES apps (id),
  environment  TEXT,
  issue_id     INTEGER,
  reason       TEXT NOT NULL,
  said_by      TEXT NOT NULL,                -- who
  ended_ms     INTEGER
) STRICT;
CREATE INDEX silences_by_end ON silences (until_ms);

-- Where records are passed on to.
CREATE TABLE passing (
  id          INTEGER PRIMARY KEY,
  name        TEXT NOT NULL,
  kind        TEXT NOT NULL CHECK (kind IN ('file', 'syslog', 'otlp', 'webhook')),
  settings    TEXT NOT NULL,                 -- JSON: what may be shown again
  secrets     BLOB,                          -- encrypted with the key beside the store
  passes      TEXT NOT NULL,                 -- JSON: which kinds of records: failure, log, run, issue, alert
  question    TEXT NOT NULL,                 -- '' for all
  hides       TEXT NOT NULL,                 -- JSON: its own redaction rules
  events_to   INTEGER NOT NULL,              -- the last event that was passed on
  passed      INTEGER NOT NULL DEFAULT 0,    -- records
  refused     INTEGER NOT NULL DEFAULT 0,    -- records that it said it will not have
  lost        INTEGER NOT NULL DEFAULT 0,    -- records that were older than the bound before it was back
  passed_ms   INTEGER,                       -- when it took something last
  trouble     TEXT NOT NULL DEFAULT '',      -- why it takes nothing
  trouble_ms  INTEGER,
  made_by     INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  removed_ms  INTEGER
) STRICT;
CREATE UNIQUE INDEX passing_by_name ON passing (name) WHERE removed_ms IS NULL;

-- How far each day file was passed on.
CREATE TABLE passed_to (
  passing_id  INTEGER NOT NULL REFERENCES passing (id),
  day         INTEGER NOT NULL,
  place       INTEGER NOT NULL,
  PRIMARY KEY (passing_id, day)
) STRICT, WITHOUT ROWID;
