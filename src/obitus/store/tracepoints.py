"""Tracepoints, their hits, and their states in each instance."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from typing import Any, Final

from obitus.core.tracepoints.orders import MOST_OF_AN_APP
from obitus.store.database import Reader
from obitus.store.errors import NotThere, TooMany
from obitus.store.rows.tracepoints import InstanceState, StateSums, Tracepoint

MOST_LISTED: Final = 200
MOST_INSTANCES: Final = 1_000
"""Instances of one tracepoint whose states are kept, the latest ones."""

_COLUMNS: Final = """
SELECT t.id, t.app_id, apps.name AS app, t.issue_id, t.environment, t.release, t.file, t.line, t.asked, t.hash, t.code_hash, t.most_hits,
       people.name AS person, t.made_ms, t.until_ms, t.ended_ms, t.ended_why, t.hits, t.latest_ms
FROM tracepoints t JOIN apps ON apps.id = t.app_id JOIN people ON people.id = t.person_id"""
_ACTIVE: Final = (
    f"{_COLUMNS} WHERE t.until_ms > :now_ms AND t.ended_ms IS NULL AND apps.removed_ms IS NULL ORDER BY t.id"
)
_LISTED: Final = f"{_COLUMNS} WHERE apps.removed_ms IS NULL AND (:app = '' OR apps.name = :app) ORDER BY t.id DESC LIMIT {MOST_LISTED}"
_ONE: Final = f"{_COLUMNS} WHERE t.id = ? AND apps.removed_ms IS NULL"
_COUNT: Final = "SELECT COUNT(*) FROM tracepoints WHERE app_id = :app_id AND until_ms > :now_ms AND ended_ms IS NULL"
_ADD: Final = """
INSERT INTO tracepoints (app_id, issue_id, environment, release, file, line, asked, hash, code_hash, most_hits, person_id, made_ms, until_ms)
VALUES (:app_id, :issue_id, :environment, :release, :file, :line, :asked, :hash, :code_hash, :most_hits, :person_id, :now_ms, :until_ms)
RETURNING id"""
_END: Final = """
UPDATE tracepoints SET ended_ms = :now_ms, ended_why = :why WHERE id = :id AND until_ms > :now_ms AND ended_ms IS NULL"""
_HIT: Final = """
UPDATE tracepoints SET hits = hits + :hits, latest_ms = MAX(COALESCE(latest_ms, 0), :latest_ms) WHERE id = :id AND app_id = :app_id"""
_STATES: Final = f"""
SELECT {", ".join(InstanceState._fields)} FROM tracepoint_states WHERE tracepoint_id = ? ORDER BY state, host, pid LIMIT {MOST_INSTANCES}"""  # noqa: S608 - columns, of a type
_SUMS: Final = """
SELECT tracepoint_id, SUM(state = 'set') AS is_set, SUM(state = 'waits') AS waits, SUM(state = 'not set') AS not_set,
       SUM(looked) AS looked, SUM(cost_ms) AS cost_ms
FROM tracepoint_states WHERE tracepoint_id IN (SELECT value FROM json_each(?)) GROUP BY tracepoint_id"""
_STATE: Final = f"""
INSERT OR REPLACE INTO tracepoint_states ({", ".join(InstanceState._fields)})
VALUES ({", ".join(":" + name for name in InstanceState._fields)})"""  # noqa: S608 - columns, of a type
_TOO_MANY: Final = f"""
DELETE FROM tracepoint_states WHERE tracepoint_id = :id AND instance IN (
  SELECT instance FROM tracepoint_states WHERE tracepoint_id = :id ORDER BY said_ms DESC LIMIT -1 OFFSET {MOST_INSTANCES})"""  # noqa: S608 - a number of ours
_IS_THERE: Final = "SELECT 1 FROM tracepoints WHERE id = ? AND app_id = ?"


def active(reader: Reader, now_ms: int) -> list[Tracepoint]:
    """Return the active ones of all apps, the oldest first."""
    return reader.all(Tracepoint, _ACTIVE, {"now_ms": now_ms})


def listed(reader: Reader, app: str = "") -> list[Tracepoint]:
    """Return the newest, of one app or of all."""
    return reader.all(Tracepoint, _LISTED, {"app": app})


def one(reader: Reader, number: int) -> Tracepoint:
    """Return one; raises NotThere."""
    rows = reader.all(Tracepoint, _ONE, (number,))
    if not rows:
        raise NotThere(f"there is no tracepoint {number}")
    return rows[0]


def states(reader: Reader, number: int) -> list[InstanceState]:
    """Return the latest states of one in its instances."""
    return reader.all(InstanceState, _STATES, (number,))


def sums(reader: Reader, numbers: Iterable[int]) -> dict[int, StateSums]:
    """Return the sums of the latest states of several, by their numbers; those without states are missing."""
    found = reader.all(StateSums, _SUMS, (json.dumps(list(numbers)),))
    return {one.tracepoint_id: one for one in found}


def add(connection: sqlite3.Connection, values: dict[str, Any]) -> int:
    """Set one and return its number. Raises TooMany where too many are set in that app."""
    if connection.execute(_COUNT, values).fetchone()[0] >= MOST_OF_AN_APP:
        raise TooMany(f"{MOST_OF_AN_APP} tracepoints are set in this app already; end one first")
    return int(connection.execute(_ADD, values).fetchone()[0])


def end(connection: sqlite3.Connection, number: int, why: str, now_ms: int) -> bool:
    """End one before its time; return whether it was active until then."""
    return connection.execute(_END, {"id": number, "why": why, "now_ms": now_ms}).rowcount > 0


def count_hit(connection: sqlite3.Connection, app_id: int, number: int, hits: int, latest_ms: int) -> None:
    """Count hits that were just stored."""
    connection.execute(_HIT, {"id": number, "app_id": app_id, "hits": hits, "latest_ms": latest_ms})


def keep_states(connection: sqlite3.Connection, states: Iterable[InstanceState]) -> None:
    """Store the states of an instance for tracepoints of its own app."""
    for state in states:
        if connection.execute(_IS_THERE, (state.tracepoint_id, state.app_id)).fetchone() is not None:
            connection.execute(_STATE, state._asdict())
            connection.execute(_TOO_MANY, {"id": state.tracepoint_id})
