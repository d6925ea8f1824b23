"""The use of each reporting key today."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.database import Reader
from obitus.store.rows.apps import KeyUse

_OF_DAY: Final = "SELECT key_id, reports, bytes FROM key_use WHERE day = ?"
_ADD: Final = """
INSERT INTO key_use (key_id, day, reports, bytes) VALUES (:key_id, :day, :reports, :bytes)
ON CONFLICT (key_id) DO UPDATE SET
  reports = excluded.reports + iif(day = excluded.day, reports, 0),
  bytes = excluded.bytes + iif(day = excluded.day, bytes, 0),
  day = excluded.day"""


def of_day(reader: Reader, day: int) -> dict[int, KeyUse]:
    """Return the use of a day by key."""
    return {row.key_id: row for row in reader.all(KeyUse, _OF_DAY, (day,))}


def add(connection: sqlite3.Connection, key_id: int, day: int, reports: int, size: int) -> None:
    """Count the use of a key, in the transaction that writes the reports."""
    connection.execute(_ADD, {"key_id": key_id, "day": day, "reports": reports, "bytes": size})
