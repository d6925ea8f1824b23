-- Version 5 (2026-11): tallies that grow.

-- How many runs a tally counted that may be sent again with more. Then only what is new is counted.
CREATE TABLE growing_tallies (
  seq   INTEGER PRIMARY KEY REFERENCES reports (seq),
  runs  INTEGER NOT NULL
) STRICT;
