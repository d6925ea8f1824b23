-- Version 6 (2026-11): sign-in that is slowed, passes with an end and a scope, deploying as a right of its own.

-- Times that lie outside of 1970 to 2099 were taken once, and could not be shown again.
UPDATE deploys SET time_ms = COALESCE((SELECT first_ms FROM releases WHERE releases.id = deploys.release_id), 0)
WHERE time_ms < 0 OR time_ms >= 4102444800000;
-- The last millisecond of the year 9999 stands for a release that was announced and has not come yet.
UPDATE releases SET first_ms = 0 WHERE first_ms < 0 OR (first_ms >= 4102444800000 AND first_ms <> 253402300799999);
UPDATE deploys SET time_ms = 0 WHERE time_ms < 0 OR time_ms >= 4102444800000;
UPDATE commits SET time_ms = MAX(0, MIN(time_ms, 4102444799999)) WHERE time_ms < 0 OR time_ms >= 4102444800000;

ALTER TABLE passes ADD COLUMN scope TEXT NOT NULL DEFAULT 'administer' CHECK (scope IN ('read', 'decide', 'administer'));
ALTER TABLE passes ADD COLUMN used_ms INTEGER;                     -- when it was last used, to within minutes
ALTER TABLE passes ADD COLUMN by_link INTEGER NOT NULL DEFAULT 0;  -- a session that a sign-in link began
-- Tokens had no end: theirs is a year from now on.
UPDATE passes SET expires_ms = CAST(strftime('%s', 'now') AS INTEGER) * 1000 + 31536000000 WHERE kind = 'token' AND expires_ms IS NULL;

-- Keys could tell of deploys so far, and go on.
ALTER TABLE reporting_keys ADD COLUMN may_deploy INTEGER NOT NULL DEFAULT 0;
UPDATE reporting_keys SET may_deploy = 1;

-- Sign-ins that were tried with a password, counted before it is looked at; forgotten after the window they count in.
CREATE TABLE sign_in_tries (
  id       INTEGER PRIMARY KEY,
  time_ms  INTEGER NOT NULL,
  name     TEXT NOT NULL,
  address  TEXT NOT NULL
) STRICT;
CREATE INDEX sign_in_tries_by_time ON sign_in_tries (time_ms);
