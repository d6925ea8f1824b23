"""Temporary thresholds of an app's loggers, ordered by people and fetched by the app's clients."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.database import Reader
from obitus.store.errors import NotThere, TooMany
from obitus.store.rows.apps import LogOrder

MOST_ORDERS: Final = 50
"""Most active orders of one app."""

_ACTIVE: Final = """
SELECT o.id, o.app_id, o.environment, o.logger, o.severity, o.made_ms, o.until_ms, people.name AS person
FROM log_orders o JOIN people ON people.id = o.person_id WHERE o.until_ms > :now_ms AND o.ended_ms IS NULL ORDER BY o.id"""
_APP: Final = "SELECT id FROM apps WHERE name = ? AND removed_ms IS NULL"
_COUNT: Final = "SELECT COUNT(*) FROM log_orders WHERE app_id = :app_id AND until_ms > :now_ms AND ended_ms IS NULL"
_REPLACED: Final = """
UPDATE log_orders SET ended_ms = :now_ms WHERE app_id = :app_id AND environment = :environment AND logger = :logger
  AND until_ms > :now_ms AND ended_ms IS NULL"""
_ADD: Final = """
INSERT INTO log_orders (app_id, environment, logger, severity, person_id, made_ms, until_ms)
VALUES (:app_id, :environment, :logger, :severity, :person_id, :now_ms, :until_ms) RETURNING id"""
_END: Final = """
UPDATE log_orders SET ended_ms = :now_ms WHERE id = :id AND app_id = :app_id AND until_ms > :now_ms AND ended_ms IS NULL RETURNING logger"""


def active(reader: Reader, now_ms: int) -> list[LogOrder]:
    """Return the active orders of all apps, the oldest first."""
    return reader.all(LogOrder, _ACTIVE, {"now_ms": now_ms})


def app_named(reader: Reader, name: str) -> int:
    """Return the number of an app; raises NotThere."""
    ids = reader.column(int, _APP, (name,))
    if not ids:
        raise NotThere(f"there is no app named {name!r}")
    return ids[0]


def add(
    connection: sqlite3.Connection,
    app_id: int,
    environment: str,
    logger: str,
    severity: str,
    *,
    person_id: int,
    now_ms: int,
    until_ms: int,
) -> int:
    """Order a logger to send from a severity on until a time, in place of an order for the same logger. Raises TooMany."""
    values = {
        "app_id": app_id, "environment": environment, "logger": logger, "severity": severity,
        "person_id": person_id, "now_ms": now_ms, "until_ms": until_ms,
    }  # fmt: skip
    connection.execute(_REPLACED, values)
    if connection.execute(_COUNT, values).fetchone()[0] >= MOST_ORDERS:
        raise TooMany(f"{MOST_ORDERS} orders hold for this app already; end one first")
    return int(connection.execute(_ADD, values).fetchone()[0])


def end(connection: sqlite3.Connection, app_id: int, order: int, now_ms: int) -> str:
    """End an order before its time, and return its logger; raises NotThere."""
    row = connection.execute(_END, {"id": order, "app_id": app_id, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no order {order} that holds")
    return str(row[0])
