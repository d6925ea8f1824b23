-- Version 25 (2026-11): plain words.

-- Who reported a deploy.
ALTER TABLE deploys RENAME COLUMN told_by TO reported_by;
-- A tracepoint is set, waits, is not set, or is over.
UPDATE tracepoint_states SET state = 'set' WHERE state = 'stands';
