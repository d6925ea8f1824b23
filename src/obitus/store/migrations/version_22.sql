-- Version 22 (2026-11): how long what was reported is kept.

-- For how many days, by kind and app; what is not named here is kept as long as the defaults say.
CREATE TABLE kept_for (
  kind    TEXT NOT NULL CHECK (kind IN ('failures', 'logs', 'healthy runs', 'other runs')),
  app_id  INTEGER NOT NULL,                  -- 0 for all apps
  days    INTEGER NOT NULL,                  -- 0 for ever
  PRIMARY KEY (kind, app_id)
) STRICT, WITHOUT ROWID;
-- Records that are there already stay, until somebody says otherwise.
INSERT INTO kept_for (kind, app_id, days)
SELECT column1, 0, 0 FROM (VALUES ('failures'), ('logs'), ('healthy runs'), ('other runs')) WHERE EXISTS (SELECT 1 FROM apps);

-- How much room the days may take; no row where nobody said.
CREATE TABLE kept_within (
  one    INTEGER PRIMARY KEY CHECK (one = 1),
  bytes  INTEGER NOT NULL
) STRICT;

-- The days whose file was rewritten without a part of what it held.
CREATE TABLE thinned (
  day           INTEGER PRIMARY KEY,
  what          TEXT NOT NULL,               -- JSON: the kinds and apps that are gone, and the places that were kept all the same
  why           TEXT NOT NULL,               -- in words: "logs after 14 days"
  removed       INTEGER NOT NULL,            -- rows, in all
  bytes_before  INTEGER NOT NULL,            -- of the latest time
  bytes_after   INTEGER NOT NULL,
  thinned_ms    INTEGER NOT NULL
) STRICT;
