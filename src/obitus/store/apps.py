"""Apps, their reporting keys and their releases."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.database import Reader
from obitus.store.errors import AlreadyThere, NotThere
from obitus.store.rows.apps import App, AppRelease, Key, KnownKey

_APPS = """
SELECT id, name, kind, created_ms, first_report_ms, last_report_ms
FROM apps WHERE removed_ms IS NULL"""
_BY_NAME: Final = f"{_APPS} ORDER BY name"
_NAMED: Final = f"{_APPS} AND name = ?"
_KEYS = """
SELECT id, app_id, environment, hint, created_ms, revoked_ms, may_add_apps, may_deploy, origins, reports_a_day, bytes_a_day FROM reporting_keys"""
_ALL_KEYS: Final = f"{_KEYS} ORDER BY app_id, environment, id"
_KEYS_OF: Final = f"{_KEYS} WHERE app_id = ? ORDER BY environment, id"
_KEY_WITH = """
SELECT k.id, k.app_id, k.environment, k.revoked_ms, k.may_add_apps, k.may_deploy, apps.name AS app, k.origins, k.reports_a_day, k.bytes_a_day
FROM reporting_keys k JOIN apps ON apps.id = k.app_id WHERE k.hash = ?"""
CHANGES_A_KEY: Final = (
    "CREATE TEMP TRIGGER update_reporting_keys AFTER UPDATE ON reporting_keys BEGIN SELECT a_key_changed(); END",
    "CREATE TEMP TRIGGER delete_reporting_keys AFTER DELETE ON reporting_keys BEGIN SELECT a_key_changed(); END",
    "CREATE TEMP TRIGGER update_name_of_apps AFTER UPDATE OF name ON apps BEGIN SELECT a_key_changed(); END",
    "CREATE TEMP TRIGGER delete_apps_of_keys AFTER DELETE ON apps BEGIN SELECT a_key_changed(); END",
)
"""Triggers for all changes after which :func:`key_with` may return something else."""
_RELEASES = """
SELECT releases.id, releases.version, releases.first_ms, apps.name AS app, apps.id AS app_id
FROM releases JOIN apps ON apps.id = releases.app_id
WHERE releases.removed_ms IS NULL AND apps.removed_ms IS NULL"""
_RELEASES_OF: Final = f"{_RELEASES} AND app_id = ?"
_ENVIRONMENTS = "SELECT DISTINCT environment FROM reporting_keys JOIN apps ON apps.id = app_id WHERE removed_ms IS NULL ORDER BY environment"
_ADD_APP = "INSERT INTO apps (name, kind, created_ms) VALUES (?, ?, ?) ON CONFLICT (name) DO NOTHING RETURNING id"
_ADD_KEY = """
INSERT INTO reporting_keys (app_id, environment, hash, hint, created_ms, may_add_apps, may_deploy, origins)
VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id"""
_REVOKE = """
UPDATE reporting_keys SET revoked_ms = :now_ms WHERE id = :id AND app_id = :app_id AND revoked_ms IS NULL"""
_BOUND = """
UPDATE reporting_keys SET reports_a_day = :reports, bytes_a_day = :bytes WHERE id = :id AND app_id = :app_id AND revoked_ms IS NULL"""


def apps(reader: Reader) -> list[App]:
    """Return all apps with the times of their first and last report, by name."""
    return reader.all(App, _BY_NAME)


def app_named(reader: Reader, name: str) -> App:
    """Return one app; raises NotThere."""
    return reader.only(App, _NAMED, (name,), what=f"app named {name!r}")


def keys(reader: Reader, app_id: int | None = None) -> list[Key]:
    """Return the reporting keys of one app or of all, revoked ones included."""
    return reader.all(Key, _ALL_KEYS) if app_id is None else reader.all(Key, _KEYS_OF, (app_id,))


def key_with(reader: Reader, key_hash: bytes) -> KnownKey | None:
    """Return the reporting key with that hash, revoked or not."""
    return reader.first(KnownKey, _KEY_WITH, (key_hash,))


def releases(reader: Reader, app_id: int | None = None) -> list[AppRelease]:
    """Return the releases of one app or of all, unordered: ``core`` orders them."""
    return reader.all(AppRelease, _RELEASES) if app_id is None else reader.all(AppRelease, _RELEASES_OF, (app_id,))


def environments(reader: Reader) -> list[str]:
    """Return the names of all environments that have a key."""
    return reader.column(str, _ENVIRONMENTS)


def add_app(connection: sqlite3.Connection, name: str, kind: str, now_ms: int) -> int:
    """Make an app and return its id; raises AlreadyThere."""
    row = connection.execute(_ADD_APP, (name, kind, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere(f"there is an app named {name!r} already")
    return int(row[0])


def add_key(
    connection: sqlite3.Connection,
    app_id: int,
    environment: str,
    key_hash: bytes,
    hint: str,
    now_ms: int,
    *,
    may_add_apps: bool = False,
    may_deploy: bool = False,
    origins: str = "",
) -> int:
    """Store a reporting key, hashed, and return its id."""
    values = (app_id, environment, key_hash, hint, now_ms, int(may_add_apps), int(may_deploy), origins)
    return int(connection.execute(_ADD_KEY, values).fetchone()[0])


def revoke_key(connection: sqlite3.Connection, app_id: int, key_id: int, now_ms: int) -> None:
    """Revoke a key for good; raises NotThere when there is none, or when it was revoked before."""
    done = connection.execute(_REVOKE, {"id": key_id, "app_id": app_id, "now_ms": now_ms})
    if done.rowcount == 0:
        raise NotThere("there is no such key, or it was revoked before")


def bound_key(connection: sqlite3.Connection, app_id: int, key_id: int, reports: int | None, size: int | None) -> None:
    """Set how many reports and bytes may come with a key in a day, None for the usual bound; raises NotThere."""
    given = {"id": key_id, "app_id": app_id, "reports": reports, "bytes": size}
    if connection.execute(_BOUND, given).rowcount == 0:
        raise NotThere("the app has no such key, or it was revoked")
