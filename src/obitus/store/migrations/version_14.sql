-- Version 14 (2026-11): timelines show what was decided around a moment.

-- Decisions by when they were made.
CREATE INDEX issue_history_by_time ON issue_history (time_ms) WHERE to_state IS NOT NULL AND from_state IS NOT NULL;
