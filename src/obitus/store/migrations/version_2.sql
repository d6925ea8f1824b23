-- Version 2 (2026-11): the team's redaction rules; the setting-up of more kinds of apps.

-- A redaction rule of the team: acts on every report that comes in, beside the default rules.
CREATE TABLE redaction_rules (
  id          INTEGER PRIMARY KEY,
  rule        TEXT NOT NULL,                 -- as people write it: name vessel pin, pattern …, path …, e-mail
  person_id   INTEGER NOT NULL REFERENCES people (id),
  created_ms  INTEGER NOT NULL,
  ended_ms    INTEGER                        -- set once; what was hidden stays hidden
) STRICT;
CREATE UNIQUE INDEX redaction_rules_in_force ON redaction_rules (rule) WHERE ended_ms IS NULL;
