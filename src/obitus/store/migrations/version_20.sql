-- Version 20 (2026-11): source maps of what is built; reporting keys of pages.

-- The source map of one built file of a release. The map itself is a file in the folder maps, by its hash.
CREATE TABLE source_maps (
  id           INTEGER PRIMARY KEY,
  app_id       INTEGER NOT NULL REFERENCES apps (id),
  release      TEXT NOT NULL,                -- '' where only the id of the build tells
  path         TEXT NOT NULL,                -- of the built file, below the folder that was deployed
  name         TEXT NOT NULL,                -- the last part of the path
  debug_id     TEXT NOT NULL,                -- '' where the build wrote none
  hash         BLOB NOT NULL,                -- SHA-256 of the map as it was given
  bytes        INTEGER NOT NULL,
  sources      INTEGER NOT NULL,             -- how many
  with_text    INTEGER NOT NULL,             -- how many of them the map holds the text of
  added_by     TEXT NOT NULL,
  added_ms     INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX source_maps_by_path ON source_maps (app_id, release, path);
CREATE INDEX source_maps_by_name ON source_maps (app_id, name);
CREATE INDEX source_maps_by_debug_id ON source_maps (app_id, debug_id) WHERE debug_id != '';
CREATE INDEX source_maps_by_hash ON source_maps (hash);

-- JSON: the origins whose pages may report with the key; '' for a key that is not for pages.
ALTER TABLE reporting_keys ADD COLUMN origins TEXT NOT NULL DEFAULT '';
