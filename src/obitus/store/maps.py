"""Which source map belongs to which built file of a release. The maps themselves are files beside the records, named by their hash."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Final

from obitus.store.database import Reader
from obitus.store.errors import TooMany
from obitus.store.rows.maps import HashRow, MapRow, MapsOfRelease

FOLDER: Final = "maps"
"""The folder of the files, in the data folder."""
SUFFIX: Final = ".map.zst"
DAMAGED: Final = ".map.damaged"
"""The suffix of a file whose content is not what its name says; it counts as missing."""
MOST_MAPS: Final = 20_000
"""Most maps of one app."""
MOST_BYTES: Final = 4 * 1024**3
"""Most bytes of all maps of one app."""
MOST_ALIKE: Final = 200
"""Most maps of one name that are compared for one file."""

_COLUMNS: Final = "id, app_id, release, path, name, debug_id, hash, bytes, sources, with_text, added_by, added_ms"
_NAMED: Final = (
    f"SELECT {_COLUMNS} FROM source_maps WHERE app_id = ? AND name = ? AND release IN (?, '') LIMIT {MOST_ALIKE}"  # noqa: S608 - constants
)
_WITH_ID: Final = (
    f"SELECT {_COLUMNS} FROM source_maps WHERE app_id = ? AND debug_id = ? AND debug_id != '' ORDER BY id DESC LIMIT 1"  # noqa: S608 - constants
)
_APPS: Final = "SELECT DISTINCT app_id FROM source_maps"
_HASHES: Final = "SELECT path, hash FROM source_maps WHERE app_id = ? AND release = ?"
_RELEASES: Final = """
SELECT release, COUNT(*) AS maps, SUM(bytes) AS bytes, SUM(with_text > 0) AS with_text, MAX(added_ms) AS latest_ms
FROM source_maps WHERE app_id = ? GROUP BY release ORDER BY latest_ms DESC, release LIMIT 500"""
_IN_ALL: Final = "SELECT COUNT(*), COALESCE(SUM(bytes), 0) FROM source_maps WHERE app_id = ?"
_ADD: Final = """
INSERT INTO source_maps (app_id, release, path, name, debug_id, hash, bytes, sources, with_text, added_by, added_ms)
VALUES (:app_id, :release, :path, :name, :debug_id, :hash, :bytes, :sources, :with_text, :added_by, :added_ms)
ON CONFLICT (app_id, release, path) DO UPDATE SET debug_id = excluded.debug_id, hash = excluded.hash, bytes = excluded.bytes,
  sources = excluded.sources, with_text = excluded.with_text, added_by = excluded.added_by, added_ms = excluded.added_ms"""
_REMOVE: Final = "DELETE FROM source_maps WHERE app_id = ? AND release = ?"
_USED: Final = "SELECT 1 FROM source_maps WHERE hash = ? LIMIT 1"


def apps_with_maps(reader: Reader) -> frozenset[int]:
    """Return the apps that have any."""
    return frozenset(reader.column(int, _APPS))


def named(reader: Reader, app_id: int, release: str, name: str) -> list[MapRow]:
    """Return the maps of built files of a name, of a release and of none."""
    return reader.all(MapRow, _NAMED, (app_id, name, release))


def with_id(reader: Reader, app_id: int, debug_id: str) -> MapRow | None:
    """Return the map with the id of a build, the latest where there are several; None where there is none."""
    return reader.first(MapRow, _WITH_ID, (app_id, debug_id))


def hashes(reader: Reader, app_id: int, release: str) -> dict[str, bytes]:
    """Return the hash of each map of a release, by the path of the built file."""
    return {row.path: row.hash for row in reader.all(HashRow, _HASHES, (app_id, release))}


def by_release(reader: Reader, app_id: int) -> list[MapsOfRelease]:
    """Return the maps of each release, counted, the latest first."""
    return reader.all(MapsOfRelease, _RELEASES, (app_id,))


def add(connection: sqlite3.Connection, row: MapRow) -> None:
    """Store a map of a file in place of the one before; raises TooMany. Runs on the writer."""
    count, size = connection.execute(_IN_ALL, (row.app_id,)).fetchone()
    if count >= MOST_MAPS or size + row.bytes > MOST_BYTES:
        raise TooMany(
            f"the app has {count:,} maps of {size / 1024**2:,.0f} MiB. Remove those of old releases first: obitus maps remove"
        )
    connection.execute(_ADD, row._asdict())


def remove(connection: sqlite3.Connection, app_id: int, release: str) -> int:
    """Remove the maps of a release; return how many there were. Runs on the writer."""
    return connection.execute(_REMOVE, (app_id, release)).rowcount


def is_used(connection: sqlite3.Connection, hash_: bytes) -> bool:
    """Whether any file has a map with this hash."""
    return connection.execute(_USED, (hash_,)).fetchone() is not None


def best_for(rows: Sequence[MapRow], path: str, release: str) -> MapRow | None:
    """Return the map of the built file at a path: one of the two paths ends with the other. Maps of its own release are preferred."""
    wanted_parts = [part for part in path.split("/") if part]
    best: tuple[bool, int, MapRow] | None = None
    for row in rows:
        parts = [part for part in row.path.split("/") if part]
        length = min(len(parts), len(wanted_parts))
        if not length or parts[-length:] != wanted_parts[-length:]:
            continue
        rank = (row.release == release, length, row)
        if best is None or rank[:2] > best[:2]:
            best = rank
    return None if best is None else best[2]
