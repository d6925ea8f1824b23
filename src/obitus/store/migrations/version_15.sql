-- Version 15 (2026-11): loggers that warn, counted as they come, so that the page Now goes through no records.

-- Log records of WARN and worse, by the hour, and by five minutes for the latest days.
CREATE TABLE warning_slots (
  minutes      INTEGER NOT NULL CHECK (minutes IN (5, 60)),
  slot         INTEGER NOT NULL,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  logger       TEXT NOT NULL,                -- '…' for those beyond the ones that are told apart
  release_id   INTEGER NOT NULL REFERENCES releases (id),
  environment  TEXT NOT NULL,
  records      INTEGER NOT NULL,
  PRIMARY KEY (minutes, slot, app_id, logger, release_id, environment)
) STRICT, WITHOUT ROWID;
