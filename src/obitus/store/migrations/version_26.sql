-- Version 26 (2026-12): a rate that is higher since a release is a rate regression everywhere, and values over time are called so.

ALTER TABLE rate_steps RENAME TO rate_regressions;
DROP INDEX rate_steps_standing;
DROP INDEX rate_steps_by_issue;
CREATE UNIQUE INDEX rate_regressions_present ON rate_regressions (release_id, environment, issue_id, entry_point) WHERE ended_ms IS NULL;
CREATE INDEX rate_regressions_by_issue ON rate_regressions (issue_id);
UPDATE events SET kind = 'rate-regression' WHERE kind = 'rate-stepped-up';
UPDATE events SET kind = 'rate-regression-ended' WHERE kind = 'rate-step-ended';
ALTER TABLE firings RENAME COLUMN course TO over_time;
