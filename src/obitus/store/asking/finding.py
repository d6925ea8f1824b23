"""Finding failures, logs and runs: the files of the days are searched one after the other, newest first, until a
page is full or the time is up."""

from __future__ import annotations

import heapq
import json
import sqlite3
import time
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Final

from obitus.core.asking.records import Kind
from obitus.core.asking.tree import Node
from obitus.core.clock import HOUR_MS
from obitus.core.days import seq_of
from obitus.core.terms import MORE
from obitus.store.asking.compiling import Compiler, Condition, Names, exactly, narrowing
from obitus.store.asking.records import TYPES, Decoder, Record, Row
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders
from obitus.store.errors import EvidenceGone, QueryTooLong, StoreDamaged
from obitus.store.rows.apps import Named
from obitus.store.rows.records import DayRow
from obitus.store.rows.releases import Version
from obitus.store.sight import ReadingConnection

MOST_ROWS: Final = 500
"""Most records of a page for people."""
MOST_LOOKED_AT: Final = 2_000
"""Most records of a page for the service itself."""
LIMIT_S: Final = 5.0
"""The longest time for one question."""
MOST_NARROWED: Final = 2_000
"""Most rows of a day from the text index; with more matches, looking at the newest rows finds them sooner."""

_APPS = "SELECT id, name FROM apps WHERE removed_ms IS NULL"
_RELEASES = "SELECT id, version FROM releases"
_INDEX: Final = "SELECT rowid FROM words WHERE words MATCH ? LIMIT ?"
_PLACES: Final = f"SELECT count(*), json_group_array(rowid) FROM ({_INDEX})"  # noqa: S608 - the statement above
# It changes as soon as another connection has committed to the file.
_STATE: Final = "PRAGMA data_version"
_INDEX_BELOW: Final = "SELECT rowid FROM words WHERE words MATCH ? AND rowid < ? ORDER BY rowid DESC LIMIT ?"
CHUNK: Final = 5
MOST_CHUNKS: Final = 5
"""Chunks of the text index's matches that are checked before a question is answered in another way: each is four
times the one before."""
SAME_COMMIT_MS: Final = 2_000
SOON_MET: Final = 1_000
"""Where a page of matches is within so many of the latest places, looking at the newest records is as fast."""
SHORT_MS: Final = 6 * HOUR_MS
FEW_ROWS: Final = 3_000
TABLES: Final[dict[Kind, str]] = {"failure": "failures", "log": "logs", "run": "runs"}
_RECEIVED: Final = {
    kind: f"SELECT time_ms + late_ms FROM {table} WHERE place <= ? ORDER BY place DESC LIMIT 1"  # noqa: S608 - the same names
    for kind, table in TABLES.items()
}
_HEAD: Final = {
    kind: f"SELECT {', '.join(TYPES[kind]._fields)} FROM {table} WHERE time_ms >= ? AND time_ms < ?"  # noqa: S608 - names of tables, above, and of columns
    for kind, table in TABLES.items()
}
_AT_PLACES: Final = {
    kind: f"SELECT {', '.join(TYPES[kind]._fields)} FROM {table} WHERE place IN (SELECT value FROM json_each(?)) AND +time_ms >= ? AND +time_ms < ?"  # noqa: S608 - the same
    for kind, table in TABLES.items()
}
"""The plus sign keeps SQLite from using the index of times: the places are few."""
_AT: Final = {
    kind: f"SELECT {', '.join(TYPES[kind]._fields)} FROM {table} WHERE place = ?"  # noqa: S608 - the same
    for kind, table in TABLES.items()
}
_SOME_IN: Final = {
    kind: f"SELECT 1 FROM {table} WHERE time_ms >= ? AND time_ms < ? LIMIT 1 OFFSET ?"  # noqa: S608 - the same
    for kind, table in TABLES.items()
}
_BETWEEN: Final = {kind: f"SELECT place FROM {table} WHERE place > ? AND place <= ?" for kind, table in TABLES.items()}  # noqa: S608 - the same
_AMONG: Final = " AND place IN (SELECT rowid FROM words WHERE words MATCH ? AND rowid > ? AND rowid <= ?)"
_THESE: Final = {
    kind: f"SELECT {', '.join(TYPES[kind]._fields)} FROM {table} WHERE place IN (SELECT value FROM json_each(?)) ORDER BY place"  # noqa: S608 - the same
    for kind, table in TABLES.items()
}
_TIME_OF: Final = {
    kind: f"SELECT time_ms FROM {table} WHERE time_ms >= ? AND time_ms < ? ORDER BY time_ms DESC LIMIT 1 OFFSET ?"  # noqa: S608 - the same
    for kind, table in TABLES.items()
}
NARROWED: Final = " AND place IN (SELECT value FROM json_each(?))"
_AFTER: Final = " AND (time_ms, place) < (?, ?)"
_ORDER: Final = " ORDER BY time_ms DESC, place DESC LIMIT ?"


@dataclass(frozen=True, slots=True)
class Looked:
    """A position in an answer: that of its last row, from where the next page continues."""

    time_ms: int
    seq: int


@dataclass(slots=True)
class FoundRecords:
    """The result: rows with their day, newest first."""

    rows: list[Row] = field(default_factory=list)
    more: bool = False
    """Whether there may be more before the last row."""
    cut: str = ""
    """Why not everything was searched, in words; '' where everything was."""
    names: Names = field(default_factory=lambda: Names({}, {}))
    """Names of apps and releases, for readers of the rows."""


def find(
    reader: Reader,
    days: DayReaders,
    kind: Kind,
    node: Node | None,
    from_ms: int,
    to_ms: int,
    *,
    most: int = 50,
    after: Looked | None = None,
    limit_s: float = LIMIT_S,
) -> FoundRecords:
    """Return the newest failures, logs or runs of a window that match a question, all where ``node`` is None."""
    most = min(most, MOST_LOOKED_AT)
    names = names_in(reader)
    ends = time.monotonic() + limit_s
    records = FoundRecords(names=names)
    # Days overlap where reports came late: rows are sorted by time.
    heap: list[tuple[int, int, int, DayRow]] = []
    for day_row in days.known(from_ms, to_ms):
        if len(heap) > most and heap[0][0] > day_row.latest_ms:
            break
        left_s = ends - time.monotonic()
        try:
            if left_s <= 0:
                raise QueryTooLong
            rows = _of_day(days, day_row.day, kind, node, names, (from_ms, to_ms), most + 1, after, left_s)
        except EvidenceGone:
            continue
        except StoreDamaged as error:
            records.cut = str(error)
            continue
        except QueryTooLong:
            records.cut = f"Looking took longer than {limit_s:g} s and was stopped: older ones were not looked at. Ask for less time, or for something exact."
            break
        for row in rows:
            entry = (row.time_ms, seq_of(day_row.day, row.place), day_row.day, row)
            if len(heap) <= most:
                heapq.heappush(heap, entry)
            elif entry[:2] > heap[0][:2]:
                heapq.heapreplace(heap, entry)
    newest = sorted(heap, key=lambda entry: entry[:2], reverse=True)
    records.more = len(newest) > most or bool(records.cut)
    records.rows = [Row(day, row) for _, _, day, row in newest[:most]]
    return records


def arrived(
    days: DayReaders,
    day: int,
    kind: Kind,
    node: Node | None,
    names: Names,
    places: tuple[int, int],
    most: int,
    limit_s: float,
) -> tuple[list[Record], int]:
    """Return the records that match a question among those of a range of places of a day file, and how many more
    there are. The range excludes its first and includes its last place; of more than ``most``, the latest are
    returned.
    """
    sql, params = _BETWEEN[kind], list[Any](places)
    with days.open(day, limit_s=limit_s) as connection:
        exact = None if node is None else exactly(node)
        if exact is not None and _is_whole(connection):
            sql += _AMONG
            params += [exact, *places]
        elif node is not None:
            asked = narrowing(node, kind)
            if asked is not None:
                # The text index is searched for these places alone: a question with few matches reads few rows.
                sql += _AMONG
                params += [asked, *places]
            condition = Compiler(connection, kind, names).condition(node)
            sql += f" AND {condition.sql}"
            params += condition.params
        meant = [row[0] for row in connection.execute(sql, params)]
        latest = json.dumps(sorted(meant)[-most:])
        rows: list[DayRow] = typed(connection.execute(_THESE[kind], (latest,)), TYPES[kind])
        return list(Decoder(connection, kind, names, day).records(rows)), len(meant) - len(rows)


def one_row(connection: sqlite3.Connection, place: int) -> tuple[Kind, DayRow] | None:
    """Return the record at a place of a day file, and its kind; None where there is none."""
    for kind, sql in _AT.items():
        rows: list[DayRow] = typed(connection.execute(sql, (place,)), TYPES[kind])
        if rows:
            return kind, rows[0]
    return None


def names_in(reader: Reader) -> Names:
    """Return the names of apps and releases."""
    return reader.remembered(_APPS, lambda: Names(dict(reader.all(Named, _APPS)), dict(reader.all(Version, _RELEASES))))


def _of_day(
    days: DayReaders,
    day: int,
    kind: Kind,
    node: Node | None,
    names: Names,
    window: tuple[int, int],
    most: int,
    after: Looked | None,
    limit_s: float,
) -> list[DayRow]:
    sql, params = _HEAD[kind], list[Any](window)
    with days.open(day, limit_s=limit_s) as connection:
        is_short = window[1] - window[0] <= SHORT_MS
        places = narrowed_places(connection, node, kind, MOST_NARROWED) if node is not None and is_short else None
        is_soon_seen = is_short and (places is not None or _are_few(connection, kind, window))
        if node is not None and not is_soon_seen and after is None and (asked := narrowing(node, kind)) is not None:
            rows = _newest_in_index(connection, kind, node, names, window, asked, most)
            if rows is not None:
                return rows
        if node is not None:
            if not is_short:
                places = narrowed_places(connection, node, kind, MOST_NARROWED)
            if places is not None:
                sql = _AT_PLACES[kind]
                params.insert(0, places)
            condition = Compiler(connection, kind, names).condition(node)
            sql += f" AND {condition.sql}"
            params += condition.params
        if after is not None:
            sql += _AFTER
            # Numbers of later days are always greater.
            before = after.seq - seq_of(day, 0)
            params += [after.time_ms, max(0, min(before, 2**32))]
        sql += _ORDER
        return typed(connection.execute(sql, (*params, most)), TYPES[kind])


def _are_few(connection: sqlite3.Connection, kind: Kind, window: tuple[int, int]) -> bool:
    """Whether a window has so few rows that reading each costs less than the text index's matches of the whole day."""
    return connection.execute(_SOME_IN[kind], (*window, FEW_ROWS - 1)).fetchone() is None


def _newest_in_index(
    connection: sqlite3.Connection,
    kind: Kind,
    node: Node,
    names: Names,
    window: tuple[int, int],
    asked: str,
    most: int,
) -> list[DayRow] | None:
    """Return the newest rows that match a question, from the text index's matches, the latest places first; None
    where these are too many.

    A record happened before it was received, and places are given as records are received: so once enough are found,
    the search can end when a place was received before the time of the last of them: no earlier place is newer.
    """
    # Where the index alone decides, no condition is needed.
    condition = cache(lambda: Compiler(connection, kind, names).condition(node))
    exact = exactly(node)
    is_whole = exact is not None and _is_whole(connection)
    newest: list[tuple[int, int, DayRow]] = []
    below, size = 2**40, most + CHUNK

    def in_index(match: str) -> list[int]:
        return [row[0] for row in connection.execute(_INDEX_BELOW, (match, below, size))]

    for _ in range(MOST_CHUNKS):
        if exact is None:
            sure, doubtful = list[int](), in_index(asked)
        else:
            sure, beyond = in_index(exact), [] if is_whole else in_index(f'"{MORE}"')
            doubtful = sorted(set(beyond).difference(sure), reverse=True)
        places = heapq.nlargest(size, [*sure, *doubtful])
        rows: list[DayRow] = []
        for some, is_sure in ((sure, True), (doubtful, False)):
            looked_at = [place for place in some if place >= places[-1]] if places else []
            if looked_at:
                sql, params = _AT_PLACES[kind], tuple[Any, ...]()
                if not is_sure:
                    sql, params = f"{sql} AND {condition().sql}", condition().params
                rows += typed(connection.execute(sql, (json.dumps(looked_at), *window, *params)), TYPES[kind])
        if rows:
            newest += [(row.time_ms, row.place, row) for row in rows]
            newest.sort(key=lambda one: one[:2], reverse=True)
            del newest[most:]
        if len(places) < size:
            return [row for _, _, row in newest]
        below = places[-1]
        received = _received_at_or_before(connection, kind, below) if len(newest) == most else None
        # Some milliseconds more: reports of one commit have consecutive places in any order of time.
        if received is not None and received + SAME_COMMIT_MS < newest[-1][0]:
            return [row for _, _, row in newest]
        if places[0] - below <= SOON_MET:
            # Thousands came within those milliseconds, and matches are everywhere among them.
            newest_rows = _among_newest(connection, kind, condition(), window, 2 * (places[0] - below) + most, most)
            if len(newest_rows) == most:
                return newest_rows
        size *= 4
    return None


def _among_newest(
    connection: sqlite3.Connection, kind: Kind, condition: Condition, window: tuple[int, int], of: int, most: int
) -> list[DayRow]:
    """Return the matches among the newest records: so many, and those of the same time as the last of them."""
    last = connection.execute(_TIME_OF[kind], (*window, of)).fetchone()
    from_ms = window[0] if last is None else last[0]
    sql = f"{_HEAD[kind]} AND {condition.sql}{_ORDER}"
    return typed(connection.execute(sql, (from_ms, window[1], *condition.params, most)), TYPES[kind])


def _is_whole(connection: sqlite3.Connection) -> bool:
    """Whether the text index has all words of all records of the file; of long records it has a part."""
    if not isinstance(connection, ReadingConnection):
        return False
    state = int(connection.execute(_STATE).fetchone()[0])
    if connection.is_whole_at != state and not connection.execute(_INDEX, (f'"{MORE}"', 1)).fetchall():
        connection.is_whole_at = state
    return connection.is_whole_at == state


def _received_at_or_before(connection: sqlite3.Connection, kind: Kind, place: int) -> int | None:
    """Return when the record of a kind at a place, or the last one before it, was received; None where there is none."""
    row = connection.execute(_RECEIVED[kind], (place,)).fetchone()
    return None if row is None else int(row[0])


def narrowed_places(connection: sqlite3.Connection, node: Node, kind: Kind, most: int) -> str | None:
    """Return the places of a question's matches in the text index, as a JSON array; None where these are too many."""
    asked = narrowing(node, kind)
    if asked is None:
        return None
    count, places = connection.execute(_PLACES, (asked, most + 1)).fetchone()
    return str(places) if count <= most else None
