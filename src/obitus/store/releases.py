"""Releases of an app and their deploys: adding, order, renaming. Functions that run on the writer take its connection."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Final

from obitus.core.clock import HOUR_MS
from obitus.core.lifecycle import next_came
from obitus.core.releases import DatedRelease, ReleaseOrder, compare
from obitus.store import events, names
from obitus.store.database import Reader, typed
from obitus.store.errors import AlreadyThere, NotThere, TooMany
from obitus.store.issues import note, settling_of
from obitus.store.rows.issues import WaitingSettling
from obitus.store.rows.releases import Deploy, KnownDeploy, KnownRelease, ListedDeploy, PlacedRelease, Release

MOST_RELEASES: Final = 3000
"""Most releases of one app."""
NOT_COME_MS: Final = 253_402_300_799_999
"""The first time of a release that was only announced: the last millisecond of the year 9999."""
DEPLOY_REPORTED_LATE_MS: Final = HOUR_MS
"""How long after a release's first report a reported deploy replaces the inferred one."""

_FIND = "SELECT id, version, first_ms, removed_ms FROM releases WHERE app_id = ? AND version = ?"
_FIND_SPELLED = """
SELECT r.id, r.version, r.first_ms, r.removed_ms FROM release_spellings s JOIN releases r ON r.id = s.release_id WHERE s.app_id = ? AND s.spelling = ?"""
_HOW_MANY = "SELECT COUNT(*) FROM releases WHERE app_id = ? AND version != '' AND removed_ms IS NULL"
_REMOVE = "UPDATE releases SET removed_ms = ?, behind_id = NULL WHERE id = ? AND removed_ms IS NULL"
_NOTHING_BEHIND = "UPDATE releases SET behind_id = NULL WHERE behind_id = ?"
_BRING_BACK = "UPDATE releases SET removed_ms = NULL WHERE id = ?"
_ADD = "INSERT INTO releases (app_id, version, first_ms) VALUES (?, ?, ?) RETURNING id"
_EARLIER = "UPDATE releases SET first_ms = ? WHERE id = ?"
_DEPLOYS_OF = (
    "SELECT id, time_ms, inferred FROM deploys WHERE release_id = ? AND environment = ? ORDER BY time_ms LIMIT 1"
)
_ADD_DEPLOY = """
INSERT INTO deploys (app_id, release_id, environment, time_ms, inferred, canary, reported_by)
VALUES (:app_id, :release_id, :environment, :time_ms, :inferred, :canary, :reported_by)"""
_MOVE_DEPLOY = "UPDATE deploys SET time_ms = ? WHERE id = ?"
_REPLACE_INFERRED = "DELETE FROM deploys WHERE release_id = ? AND environment = ? AND inferred = 1 AND time_ms >= ?"
_SAME_DEPLOY = "SELECT id FROM deploys WHERE release_id = ? AND environment = ? AND time_ms = ? AND inferred = 0"
_KNOWN = """
SELECT r.version, r.first_ms, b.version AS behind FROM releases r LEFT JOIN releases b ON b.id = r.behind_id
WHERE r.app_id = ? AND r.version != '' AND r.removed_ms IS NULL"""
_PLACED = "SELECT 1 FROM releases WHERE app_id = ? AND behind_id IS NOT NULL LIMIT 1"
_STAMP = "SELECT COUNT(*), SUM(first_ms), SUM(COALESCE(behind_id, 0) * id), SUM(removed_ms IS NOT NULL), MAX(id), SUM(length(version)) FROM releases WHERE app_id = ?"
_WAITING = """
SELECT s.issue_id, s.environment, s.how, s.release, s.after, s.time_ms FROM settlings s JOIN issues i ON i.id = s.issue_id
WHERE s.how = 'coming' AND s.release IS NULL AND i.app_id = ?"""
_BIND = "UPDATE settlings SET release = ? WHERE issue_id = ? AND environment = ?"
_BOUND = "UPDATE issues SET settled_in = ? WHERE id = ? AND state = 'settled'"
_ALL = """
SELECT r.id, r.version, r.first_ms, r.revision, b.version AS behind,
  (SELECT COUNT(*) FROM commits WHERE commits.release_id = r.id) AS commits
FROM releases r LEFT JOIN releases b ON b.id = r.behind_id WHERE r.app_id = :app_id AND r.version != '' AND r.removed_ms IS NULL"""
_DEPLOYS = """
SELECT r.version, apps.name AS app, d.environment, d.time_ms, d.inferred, d.canary, d.reported_by
FROM deploys d JOIN releases r ON r.id = d.release_id JOIN apps ON apps.id = d.app_id
WHERE r.removed_ms IS NULL AND apps.removed_ms IS NULL AND d.time_ms >= :from_ms AND d.time_ms < :to_ms AND (:app IS NULL OR apps.name = :app)
  AND (:environment IS NULL OR d.environment = :environment)
ORDER BY d.time_ms DESC, d.id DESC LIMIT :limit"""
_DEPLOYS_OF_MANY = """
SELECT d.release_id, r.version, d.environment, d.time_ms, d.inferred, d.canary, d.reported_by
FROM deploys d JOIN releases r ON r.id = d.release_id WHERE d.release_id IN (SELECT value FROM json_each(?))
ORDER BY d.time_ms, d.id"""
_RENAME = "UPDATE releases SET version = ? WHERE id = ?"
_SPELL = """
INSERT INTO release_spellings (app_id, spelling, release_id) VALUES (?, ?, ?)
ON CONFLICT DO UPDATE SET release_id = excluded.release_id"""
_UNSPELL = "DELETE FROM release_spellings WHERE app_id = ? AND spelling = ?"
_PUT_BEHIND = "UPDATE releases SET behind_id = ? WHERE id = ?"
_BEHIND_OF = "SELECT behind_id FROM releases WHERE id = ?"
_RENAMED_IN_SETTLINGS = """
UPDATE settlings SET release = CASE WHEN release = :old THEN :new ELSE release END,
  after = CASE WHEN after = :old THEN :new ELSE after END
WHERE issue_id IN (SELECT id FROM issues WHERE app_id = :app_id) AND (release = :old OR after = :old)"""
_RENAMED_IN_ISSUES = "UPDATE issues SET settled_in = :new WHERE app_id = :app_id AND settled_in = :old"
_HAS_FAILED: Final = """
SELECT 1 FROM issue_releases WHERE release_id IN (SELECT id FROM releases WHERE app_id = ? AND version = ?) LIMIT 1"""


@dataclass(frozen=True, slots=True)
class ReleaseOfReport:
    """A release of an app; ``new`` when this report or deploy added it. ``beyond`` when the app has reached its
    bound: then it is the one of reports without a release.
    """

    id: int
    new: bool
    beyond: bool = False


def come(connection: sqlite3.Connection, app_id: int, version: str, time_ms: int) -> ReleaseOfReport:
    """Find or make the release of a report at ``time_ms``, which becomes its first time if it is the earliest."""
    row = _find(connection, app_id, version)
    unknown = row is None or row.removed_ms is not None
    if unknown and version and connection.execute(_HOW_MANY, (app_id,)).fetchone()[0] >= MOST_RELEASES:
        # A release for each build, or invented names, must not make every page slow.
        return ReleaseOfReport(come(connection, app_id, "", time_ms).id, new=False, beyond=True)
    if row is None:
        return ReleaseOfReport(int(connection.execute(_ADD, (app_id, version, time_ms)).fetchone()[0]), new=True)
    if unknown:
        connection.execute(_BRING_BACK, (row.id,))
    if time_ms < row.first_ms:
        connection.execute(_EARLIER, (time_ms, row.id))
    return ReleaseOfReport(row.id, new=row.first_ms == NOT_COME_MS)


def has_failed(reader: Reader, app_id: int, version: str) -> bool:
    """Whether a release has any failure."""
    return bool(reader.column(int, _HAS_FAILED, (app_id, version)))


def announce(connection: sqlite3.Connection, app_id: int, version: str) -> int:
    """Announce a release, and return its id; a known one stays as it is."""
    row = _find(connection, app_id, version)
    unknown = row is None or row.removed_ms is not None
    if unknown and connection.execute(_HOW_MANY, (app_id,)).fetchone()[0] >= MOST_RELEASES:
        raise _too_many()
    if row is not None and unknown:
        connection.execute(_BRING_BACK, (row.id,))
    return row.id if row else int(connection.execute(_ADD, (app_id, version, NOT_COME_MS)).fetchone()[0])


def _too_many() -> TooMany:
    return TooMany(f"the app has {MOST_RELEASES:,} releases already; name releases, not builds or commits")


def infer_deploy(connection: sqlite3.Connection, app_id: int, release_id: int, environment: str, time_ms: int) -> None:
    """Infer a release's deploy from its first report from an environment."""
    deploys = typed(connection.execute(_DEPLOYS_OF, (release_id, environment)), KnownDeploy)
    if not deploys:
        values = {"app_id": app_id, "release_id": release_id, "environment": environment, "time_ms": time_ms}
        connection.execute(_ADD_DEPLOY, values | {"inferred": 1, "canary": 0, "reported_by": ""})
    elif deploys[0].inferred and time_ms < deploys[0].time_ms:
        connection.execute(_MOVE_DEPLOY, (time_ms, deploys[0].id))


def deploy(
    connection: sqlite3.Connection,
    app_id: int,
    version: str,
    environment: str,
    time_ms: int,
    *,
    canary: bool,
    reported_by: str,
    now_ms: int,
) -> None:
    """Add a deploy. Reported twice, it is one deploy. A reported deploy replaces one that was inferred from the first report."""
    release = come(connection, app_id, version, time_ms)
    if release.beyond:
        raise _too_many()
    if not names.environment(connection, app_id, environment):
        raise TooMany(
            f"the app has {names.MOST_ENVIRONMENTS} environments already; name places, not machines or branches"
        )
    if connection.execute(_SAME_DEPLOY, (release.id, environment, time_ms)).fetchone() is not None:
        return
    connection.execute(_REPLACE_INFERRED, (release.id, environment, time_ms - DEPLOY_REPORTED_LATE_MS))
    values = {"app_id": app_id, "release_id": release.id, "environment": environment, "time_ms": time_ms}
    values |= {"inferred": 0, "canary": int(canary), "reported_by": reported_by}
    connection.execute(_ADD_DEPLOY, values)
    events.add(connection, "deploy", now_ms, app_id=app_id, release=version, environment=environment)
    if release.new:
        bind_next(connection, app_id, version, now_ms)


def bind_next(connection: sqlite3.Connection, app_id: int, version: str, now_ms: int) -> None:
    """Settle issues that are fixed from the coming release in this one, which has come."""
    waiting = typed(connection.execute(_WAITING, (app_id,)), WaitingSettling)
    if not waiting or not version:
        return
    order = StoredOrder(connection, app_id)
    for row in waiting:
        if next_came(settling_of(row), version, order):
            connection.execute(_BIND, (version, row.issue_id, row.environment))
            connection.execute(_BOUND, (version, row.issue_id))
            remark = f"The coming release is here: {version}. It should have the fix."
            note(connection, row.issue_id, None, remark, now_ms)


class StoredOrder(ReleaseOrder):
    """The order of an app's releases, read only where needed: two numbers need no list of all releases."""

    _whole: ClassVar[dict[tuple[int, int], tuple[tuple[object, ...], ReleaseOrder]]] = {}

    def __init__(self, connection: sqlite3.Connection, app_id: int) -> None:
        self._connection, self._app_id = connection, app_id
        self._placed: bool | None = None

    def compare(self, left: str, right: str) -> int | None:
        """Return -1, 0 or 1, or None when they have no order."""
        if self._placed is None:
            self._placed = self._connection.execute(_PLACED, (self._app_id,)).fetchone() is not None
        if left == right:
            return 0
        order = None if self._placed else compare(left, right)
        return order if order else self.whole().compare(left, right)

    def first_ms(self, version: str | None) -> int | None:
        """Return when a release was first seen, or None when it has not been."""
        row = _named(self._connection, self._app_id, version) if version else None
        return None if row is None or row.first_ms == NOT_COME_MS else row.first_ms

    def whole(self) -> ReleaseOrder:
        """Return the order of all releases, cached while none is added or moved."""
        key = (id(self._connection), self._app_id)
        stamp = tuple(self._connection.execute(_STAMP, (self._app_id,)).fetchone())
        order_known = self._whole.get(key)
        if order_known is None or order_known[0] != stamp:
            if len(self._whole) > 100:
                self._whole.clear()
            rows = typed(self._connection.execute(_KNOWN, (self._app_id,)), PlacedRelease)
            order_known = self._whole[key] = (stamp, order_of(rows))
        return order_known[1]


def order_of(rows: Sequence[PlacedRelease | Release]) -> ReleaseOrder:
    """Return the order of releases read with version, first_ms and behind."""
    return ReleaseOrder(DatedRelease(row.version, row.first_ms, row.behind) for row in rows if row.version)


def order(reader: Reader, app_id: int) -> ReleaseOrder:
    """Return the order of an app's releases."""
    return order_of(reader.all(PlacedRelease, _KNOWN, (app_id,)))


def newest(reader: Reader, app_id: int) -> str | None:
    """Return the last release in order that has been seen; an announced one is the next."""
    known = reversed(order(reader, app_id).releases)
    return next((release.version for release in known if release.first_ms != NOT_COME_MS), None)


def releases(reader: Reader, app_id: int) -> list[Release]:
    """Return an app's releases with a name, unordered."""
    return reader.all(Release, _ALL, {"app_id": app_id})


def name_of(reader: Reader, app_id: int, spelling: str) -> str | None:
    """Return the present name of a release that had this name before, or None."""
    row = reader.first(KnownRelease, _FIND_SPELLED, (app_id, spelling))
    return row.version if row is not None else None


def deploys(
    reader: Reader, from_ms: int, to_ms: int, app: str | None, environment: str | None, limit: int = 500
) -> list[ListedDeploy]:
    """Return deploys inside a span, the latest first."""
    values = {"from_ms": from_ms, "to_ms": to_ms, "app": app, "environment": environment, "limit": limit}
    return reader.all(ListedDeploy, _DEPLOYS, values)


def deploys_of(reader: Reader, releases: Sequence[int]) -> list[Deploy]:
    """Return the deploys of releases, the oldest first."""
    return reader.all(Deploy, _DEPLOYS_OF_MANY, (json.dumps(list(releases)),))


def rename(connection: sqlite3.Connection, app_id: int, old: str, new: str) -> None:
    """Rename a release; later reports with the old name count for it. Raises NotThere and AlreadyThere."""
    row = _find(connection, app_id, old)
    if row is None:
        raise NotThere(f"there is no release {old!r}")
    other = _named(connection, app_id, new)
    if other is not None and other.id != row.id:
        raise AlreadyThere(f"there is a release {new!r} already, with reports of its own")
    connection.execute(_RENAME, (new, row.id))
    connection.execute(_UNSPELL, (app_id, new))
    if old != new:
        connection.execute(_SPELL, (app_id, old, row.id))
    values = {"app_id": app_id, "old": old, "new": new}
    connection.execute(_RENAMED_IN_SETTLINGS, values)
    connection.execute(_RENAMED_IN_ISSUES, values)


def remove(connection: sqlite3.Connection, app_id: int, version: str, now_ms: int) -> None:
    """Remove a release from the list; its failures stay, and a report that names it adds it again. Raises NotThere."""
    row = _find(connection, app_id, version)
    if row is None or not version or connection.execute(_REMOVE, (now_ms, row.id)).rowcount == 0:
        raise NotThere(f"there is no release {version!r}")
    connection.execute(_NOTHING_BEHIND, (row.id,))


def put_behind(connection: sqlite3.Connection, app_id: int, version: str, behind: str | None) -> None:
    """Correct the order: put a release right after another one, or (None) in its order by name and time."""
    row = _find(connection, app_id, version)
    other = _find(connection, app_id, behind) if behind is not None else None
    if row is None or (behind is not None and other is None):
        raise NotThere(f"there is no release {(version if row is None else behind)!r}")
    at = other.id if other is not None else None
    while at is not None:
        if at == row.id:
            raise AlreadyThere(f"{behind} comes after {version} already; it cannot be the other way round too")
        at = connection.execute(_BEHIND_OF, (at,)).fetchone()[0]
    connection.execute(_PUT_BEHIND, (other.id if other is not None else None, row.id))


def _named(connection: sqlite3.Connection, app_id: int, version: str) -> KnownRelease | None:
    rows = typed(connection.execute(_FIND, (app_id, version)), KnownRelease)
    return rows[0] if rows else None


def _find(connection: sqlite3.Connection, app_id: int, version: str) -> KnownRelease | None:
    release = _named(connection, app_id, version)
    if release is None and version:
        spelled = typed(connection.execute(_FIND_SPELLED, (app_id, version)), KnownRelease)
        return spelled[0] if spelled else None
    return release
