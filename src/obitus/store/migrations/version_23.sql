-- Version 23 (2026-11): how much a reporting key may send in a day.

-- Of one key; where nobody said, what holds for all.
ALTER TABLE reporting_keys ADD COLUMN reports_a_day INTEGER;
ALTER TABLE reporting_keys ADD COLUMN bytes_a_day INTEGER;

-- What came with each key on the day that it reported last.
CREATE TABLE key_use (
  key_id   INTEGER PRIMARY KEY,
  day      INTEGER NOT NULL,                 -- days since 1970-01-01, UTC, by the service's clock
  reports  INTEGER NOT NULL,
  bytes    INTEGER NOT NULL                  -- as they were sent: compressed, where they were
) STRICT;
