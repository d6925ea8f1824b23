-- Version 10 (2026-11): regroupings are read from the events, by a job that may be killed between reading and beginning.

-- When it was begun; none while it waits for its turn. What was begun and did not end goes back at the next start.
ALTER TABLE regroupings ADD COLUMN begun_ms INTEGER;
UPDATE regroupings SET begun_ms = created_ms;
