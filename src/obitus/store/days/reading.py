"""Reading day files: a few connections, shared by all threads."""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Final

from obitus.core.clock import to_text
from obitus.core.days import UNDATED, day_text
from obitus.store import errors
from obitus.store.database import (
    READ_LIMIT_S,
    SMALL_CACHE,
    Kept,
    Params,
    Reader,
    Row,
    file_identity,
    open_as_reader,
    our_errors,
    typed,
)
from obitus.store.days.files import bring_up_to_date, path_of
from obitus.store.rows.records import Day, RemovedDay
from obitus.store.sight import OF_DAYS, ReadingConnection

_log = logging.getLogger("obitus.store")

MOST_REMEMBERED: Final = 2_000
"""Texts in the cache of an idle connection."""
MOST_IDLE: Final = 40
"""Idle connections that stay open."""
_REMOVED = "SELECT removed_ms, removed_why FROM days WHERE day = ?"
_THINNED = "SELECT thinned_ms AS removed_ms, why AS removed_why FROM thinned WHERE day = ?"
_DAYS = """
SELECT day, last_place, reports, earliest_ms, latest_ms FROM days
WHERE reports > 0 ORDER BY latest_ms DESC, day DESC"""
_NEWEST = "SELECT day, last_place, reports, earliest_ms, latest_ms FROM days WHERE reports > 0 ORDER BY day DESC"


Identity = tuple[int, int] | None


class DayReaders:
    """Reads day files by day, limited to the apps that the reader of the main file sees. Every statement has a time limit."""

    def __init__(self, folder: Path, main: Reader) -> None:
        self.folder, self._main = folder, main
        self._sight = main.sight
        self._idle: OrderedDict[int, list[tuple[ReadingConnection, Identity]]] = OrderedDict()
        """With the identity of each one's file: a day's file may have been rewritten meanwhile."""
        self._lock = threading.Lock()
        self._closed = False

    def known(self, from_ms: int | None = None, to_ms: int | None = None) -> list[Day]:
        """Return the days that may have reports of a window, newest first."""
        if from_ms is None or to_ms is None:
            return list(self._main.remembered(_NEWEST, partial(self._main.all, Day, _NEWEST)))
        days = self._main.remembered(_DAYS, partial(self._main.all, Day, _DAYS))
        return [day for day in days if day.latest_ms >= from_ms and day.earliest_ms < to_ms]

    def latest(self, most: int) -> list[Day]:
        """Return so many days, the latest dates first."""
        return sorted(self.known(), key=lambda day: day.day, reverse=True)[:most]

    def rows(self, day: int, sql: str, params: Params = ()) -> list[Row]:
        """Run one reading statement on a day's file; raises EvidenceGone where the file was removed."""
        with self.open(day) as connection:
            return connection.execute(sql, params).fetchall()

    def all_if_readable(self, kind: Callable[..., Kept], day: int, sql: str, params: Params = ()) -> list[Kept]:
        """The same for loops over all days: a removed or damaged file has no rows."""
        try:
            with self.open(day) as connection:
                return typed(connection.execute(sql, params), kind)
        except errors.UNREADABLE as error:
            _log.warning("%s is passed over: %s", day_text(day), error)
            return []

    @contextmanager
    def open(self, day: int, *, limit_s: float = READ_LIMIT_S) -> Iterator[sqlite3.Connection]:
        """Lend a connection to a day's file for reading."""
        path = path_of(self.folder, day)
        connection, identity = self._take(day, path)
        ends = time.monotonic() + limit_s
        try:
            with our_errors(path):
                connection.set_progress_handler(lambda: time.monotonic() > ends, 10_000)
                yield connection
        except BaseException:
            # Whatever is wrong with it, the next caller gets another one.
            connection.close()
            raise
        else:
            self._give_back(day, connection, identity)

    def gone(self, day: int) -> errors.EvidenceGone:
        """Return the message for a report whose day has no file, or whose file no longer has it."""
        if (removal := self._removal(day)) is not None:
            return removal
        named = "without a time" if day == UNDATED else f"of {day_text(day)}"
        return errors.EvidenceGone(
            f"Its evidence is missing: the file of the reports {named} is not in {self.folder}. Bring it back from a backup."
        )

    def removal_of(self, day: int, place: int) -> errors.EvidenceGone | None:
        """Return the message for a place that a day's file does not have; None where it never had it."""
        had_it = any(known.day == day and place <= known.last_place for known in self.known())
        return self._removal(day) if had_it else None

    def _removal(self, day: int) -> errors.EvidenceGone | None:
        removed = self._main.first(RemovedDay, _REMOVED, (day,))
        if removed is not None and removed.removed_ms is not None:
            when, why = to_text(removed.removed_ms)[:10], f", {removed.removed_why}" if removed.removed_why else ""
            return errors.EvidenceGone(f"Its evidence was removed on {when}{why}. Its counts stay.")
        thinned = self._main.first(RemovedDay, _THINNED, (day,))
        if thinned is not None and thinned.removed_ms is not None and path_of(self.folder, day).exists():
            when = to_text(thinned.removed_ms)[:10]
            return errors.EvidenceGone(f"Its evidence was removed by {when} ({thinned.removed_why}). Its counts stay.")
        return None

    def forget(self, day: int) -> None:
        """Close idle connections of a day whose file is to be removed."""
        with self._lock:
            for connection, _ in self._idle.pop(day, ()):
                connection.close()

    def close(self) -> None:
        """Close every connection."""
        with self._lock:
            self._closed = True
            for connections in self._idle.values():
                for connection, _ in connections:
                    connection.close()
            self._idle.clear()

    def _take(self, day: int, path: Path) -> tuple[ReadingConnection, Identity]:
        identity = file_identity(path)
        with self._lock:
            if self._closed:
                raise errors.StoreBusy("the service is stopping; ask again")
            idle = self._idle.get(day)
            while idle:
                connection, opened_on = idle.pop()
                if opened_on == identity:
                    return connection, identity
                connection.close()
        if identity is None:
            raise self.gone(day)
        with our_errors(path):
            bring_up_to_date(path)
            return open_as_reader(path, SMALL_CACHE, OF_DAYS, self._sight), identity

    def _give_back(self, day: int, connection: ReadingConnection, identity: Identity) -> None:
        if len(connection.texts) > MOST_REMEMBERED:
            connection.texts.clear()
            connection.pairs.clear()
        with self._lock:
            if self._closed:
                connection.close()
                return
            self._idle.setdefault(day, []).append((connection, identity))
            self._idle.move_to_end(day)
            while sum(map(len, self._idle.values())) > MOST_IDLE:
                oldest = next(iter(self._idle))
                connections = self._idle[oldest]
                if connections:
                    connections.pop()[0].close()
                if not connections:
                    del self._idle[oldest]
