"""The day files' part of a commit. Used by the writer's thread alone.

A commit writes its day files first and the main file last, and only then answers. The main file has the last place
of each day (``days.last_place``). Records of a day file beyond that are of a commit that a kill or an error
interrupted: it was not acknowledged, its senders send again, and the records are deleted when the file is next
opened: the latest files when the store is opened. So the two never disagree, and nothing needs to be looked up in
both. The only change of a commit to existing rows, the number of failures that one represents, is then set to the
main file's value.
"""

from __future__ import annotations

import logging
import sqlite3
import time
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Final

from obitus.core.days import UNDATED, day_text, seq_of
from obitus.core.floods import Floods
from obitus.store import errors
from obitus.store.database import NO_FILES_ASIDE, file_identity, let_go, our_errors
from obitus.store.days import removed
from obitus.store.days.files import HAS_FILE, open_day, path_of, written_of
from obitus.store.days.texts import Texts

_log = logging.getLogger("obitus.store")

MOST_OPEN: Final = 6
"""Day files that stay open for writing between commits: late reports are of some dozens of days at most."""
MOST_DAYS: Final = 1500
"""Most days with a file of their own. Invented times must not make files without end."""

_LAST_PLACE = f"SELECT last_place, {HAS_FILE} FROM days WHERE day = ?"  # noqa: S608 - a constant
_LOST = "UPDATE days SET removed_ms = ?, removed_why = ?, reports = ? WHERE day = ?"
_IDS = "SELECT COUNT(*) FROM ids"
_HOW_MANY = f"SELECT COUNT(*) FROM days WHERE {HAS_FILE}"  # noqa: S608 - a constant
_WRITTEN = "SELECT place FROM written"
_SET_WRITTEN = "UPDATE written SET place = ?"
_LATEST = f"SELECT day, last_place FROM days WHERE {HAS_FILE} ORDER BY day DESC LIMIT ?"  # noqa: S608 - a constant
_STAND_FOR_OTHERS = "SELECT place, stands_for FROM failures WHERE stands_for > 1"
_STANDS_FOR = "SELECT stands_for FROM failures WHERE seq = ?"
_SET_STANDS_FOR = "UPDATE failures SET stands_for = ? WHERE place = ?"
_TABLES: Final = ("ids", "evidence", "failures", "logs", "runs")
_TRIM: Final = tuple(f"DELETE FROM {table} WHERE place > ?" for table in _TABLES)  # noqa: S608 - names of tables, above
_NOTE_DAY = """
INSERT INTO days (day, last_place, reports, earliest_ms, latest_ms) VALUES (:day, :last_place, :reports, :earliest_ms, :latest_ms)
ON CONFLICT DO UPDATE SET last_place = excluded.last_place, reports = reports + excluded.reports,
  earliest_ms = MIN(earliest_ms, excluded.earliest_ms), latest_ms = MAX(latest_ms, excluded.latest_ms)"""


class DayFile:
    """A day file that is open for writing."""

    def __init__(self, path: Path, day: int, last_place: int, main: sqlite3.Connection, *, is_new: bool) -> None:
        self.day, self.path = day, path
        self.is_new = is_new
        """Whether the main file does not have it yet."""
        self.connection = open_day(path)
        self.connection.execute(NO_FILES_ASIDE)
        try:
            with our_errors(path):
                written = int(self.connection.execute(_WRITTEN).fetchone()[0])
                if written > last_place:
                    self._trim(last_place, main)
                self.lost_some = written < last_place
                """Whether it has less than the main file counts: it was cut, or replaced by an older file."""
                self.reports = int(self.connection.execute(_IDS).fetchone()[0]) if self.lost_some else 0
            self.identity = file_identity(path)
            self.texts = Texts(self.connection)
            # Never reused, even after trimming: the text index may still have it.
            self.next_place = max(written, last_place) + 1
            self._earliest_ms: int | None = None
            self._latest_ms = 0
            self.added = 0
        except BaseException:
            self.connection.close()
            raise

    def _trim(self, last_place: int, main: sqlite3.Connection) -> None:
        """Delete the records of an interrupted commit."""
        deleted = 0
        self.connection.execute("BEGIN IMMEDIATE")
        for statement in _TRIM:
            deleted += self.connection.execute(statement, (last_place,)).rowcount
        for place, n in self.connection.execute(_STAND_FOR_OTHERS).fetchall():
            represented = main.execute(_STANDS_FOR, (seq_of(self.day, place),)).fetchone()
            if represented is not None and represented[0] != n:
                self.connection.execute(_SET_STANDS_FOR, (represented[0], place))
        self.connection.execute("COMMIT")
        if deleted:
            _log.warning(
                "%s: %d rows of a commit that was broken off were deleted; their senders send again", self.path, deleted
            )

    def take_place(self, time_ms: int) -> int:
        """Take the next place for a new report with that time; return it."""
        place = self.next_place
        self.next_place += 1
        self.added += 1
        self._earliest_ms = time_ms if self._earliest_ms is None else min(self._earliest_ms, time_ms)
        self._latest_ms = max(self._latest_ms, time_ms)
        return place

    def begin(self) -> None:
        """Begin a transaction."""
        self.connection.execute("BEGIN IMMEDIATE")

    def begin_job(self) -> None:
        """Begin a savepoint."""
        self.connection.execute("SAVEPOINT one_job")
        self._added_before = self.added

    def end_job(self, *, failed: bool) -> None:
        """Keep or roll back the work since ``begin_job``."""
        if failed:
            self.connection.execute("ROLLBACK TO one_job")
            self.added = self._added_before
            self.texts.forget()
        self.connection.execute("RELEASE one_job")

    def note(self, main: sqlite3.Connection) -> None:
        """Store in the main file, and here, the last place of this file after this commit."""
        if self._earliest_ms is None:
            return
        values = {
            "day": self.day,
            "last_place": self.next_place - 1,
            "reports": self.added,
            "earliest_ms": self._earliest_ms,
            "latest_ms": self._latest_ms,
        }
        self.connection.execute(_SET_WRITTEN, (self.next_place - 1,))
        main.execute(_NOTE_DAY, values)

    def commit(self) -> None:
        """Commit; raises StoreReadOnly where the file was moved away."""
        if file_identity(self.path) != self.identity:
            raise errors.StoreReadOnly(
                f"{self.path}: the file was moved away or replaced; nothing was taken. Bring it back, or start again."
            )
        self.connection.execute("COMMIT")
        self._earliest_ms, self._latest_ms, self.added = None, 0, 0
        self.is_new = False


class WritingDays:
    """The day files that are open for writing, and which of them take part in the present commit."""

    def __init__(self, folder: Path, main: sqlite3.Connection) -> None:
        self.folder, self._main = folder, main
        self._open: OrderedDict[int, DayFile] = OrderedDict()
        self._taking_part: dict[int, DayFile] = {}
        self._removed: set[int] = set()
        self._is_first_job = False
        self.floods = Floods()
        """Which failures represent others: only committed ones, or those of the present commit."""
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        removed.tidy(folder, main)
        removed.forget_unfinished(folder)
        self._finish_latest()

    def at(self, day: int) -> DayFile:
        """Return a day's file, as part of the present commit; the undated one's, where this day would exceed the bound of days."""
        file = self._taking_part.get(day)
        if file is not None:
            return file
        if day not in self._open and self._is_one_too_many(day):
            day = UNDATED
            if day in self._taking_part:
                return self._taking_part[day]
        if day in self._removed:
            raise errors.StoreBusy(f"the reports of {day_text(day)} are being removed; send again in a moment")
        file = self._open.get(day) or self._opened(day)
        self._open[day] = file
        self._open.move_to_end(day)
        with our_errors(file.path):
            file.begin()
            if not self._is_first_job:
                file.begin_job()
        self._taking_part[day] = file
        return file

    def _finish_latest(self) -> None:
        """Delete the records of an interrupted commit in the latest files, before they are read."""
        for day, last_place in self._main.execute(_LATEST, (MOST_OPEN,)).fetchall():
            # The next write to a missing or damaged one reports that.
            if written_of(path_of(self.folder, day)) > last_place:
                self._open[day] = self._opened(day)

    def _is_one_too_many(self, day: int) -> bool:
        if self._main.execute(_LAST_PLACE, (day,)).fetchone() is not None:
            return False
        # Those of this commit are not in the table yet.
        new = sum(one.is_new for one in self._taking_part.values())
        return int(self._main.execute(_HOW_MANY).fetchone()[0]) + new >= MOST_DAYS

    @property
    def is_full(self) -> bool:
        """Whether no further work should be added to this commit."""
        return len(self._open) > MOST_OPEN

    def _opened(self, day: int) -> DayFile:
        row = self._main.execute(_LAST_PLACE, (day,)).fetchone()
        path, last_place = path_of(self.folder, day), int(row[0]) if row else 0
        was_there = path.exists()
        was_removed = row is not None and not row[1] and not was_there
        try:
            opened = DayFile(path, day, last_place, self._main, is_new=row is None)
        except errors.StoreDamaged as error:
            # One broken file must not block reports of its day for ever.
            damaged = removed.keep_damaged(path)
            _log.error("%s; it is kept as %s, and another one is begun", error, damaged.name)
            self._lost(day, removed.was_damaged(damaged), 0)
            return DayFile(path, day, last_place, self._main, is_new=row is None)
        # Why a removed day's earlier reports are gone is on record already.
        if opened.lost_some and not was_removed:
            why = removed.WAS_CUT if was_there else removed.WAS_MISSING
            _log.error("%s: what was reported before is not in it, %s", path, why)
            self._lost(day, why, opened.reports)
        return opened

    def _lost(self, day: int, why: str, reports: int) -> None:
        """Record in the main file that a day's reports are gone, except so many."""
        self._main.execute(_LOST, (time.time_ns() // 1_000_000, why, reports, day))

    def begin_first_job(self) -> None:
        """Begin the first work of a commit: only ``give_up`` rolls it back."""
        self._is_first_job = True

    def end_first_job(self) -> None:
        """Keep the work since ``begin_first_job``."""
        self._is_first_job = False

    def begin_job(self) -> None:
        """Begin work that can be rolled back alone."""
        for file in self._taking_part.values():
            file.begin_job()

    def end_job(self, *, failed: bool = False) -> None:
        """Keep or roll back the work since ``begin_job``."""
        if failed:
            self.floods.forget()
        for file in self._taking_part.values():
            with our_errors(file.path):
                file.end_job(failed=failed)

    def commit(self, reached: Callable[[str], None]) -> None:
        """Commit the day files; the caller commits the main file after that. ``reached`` is called between two commits."""
        for file in self._taking_part.values():
            with our_errors(file.path):
                file.note(self._main)
        for file in self._taking_part.values():
            reached(f"before {day_text(file.day)}")
            with our_errors(file.path):
                file.commit()
        reached("before the main file")

    def done(self) -> None:
        """The main file was committed, too."""
        self._taking_part.clear()
        self._removed.clear()
        while len(self._open) > MOST_OPEN:
            _, oldest = self._open.popitem(last=False)
            let_go(oldest.connection, oldest.path)

    def give_up(self) -> None:
        """Abandon this commit: records on disk already are deleted when their file is next opened."""
        self.floods.forget()
        for day, file in self._taking_part.items():
            self._open.pop(day, None)
            try:
                # Closing rolls back what is not committed.
                file.connection.close()
            except sqlite3.Error as error:
                _log.error("%s could not be closed (%s)", file.path, error)
        self._taking_part.clear()
        self._removed.clear()

    def let_be_removed(self, day: int) -> bool:
        """Close a day's file, since this commit removes it; return False where it takes part in the commit."""
        if day in self._taking_part:
            return False
        file = self._open.pop(day, None)
        if file is not None:
            file.connection.close()
        self._removed.add(day)
        return True

    def tidy(self) -> None:
        """Restore the file of a day whose removal was not committed."""
        removed.tidy(self.folder, self._main)

    def close(self) -> None:
        """Close all files."""
        self.give_up()
        for file in self._open.values():
            let_go(file.connection, file.path)
        self._open.clear()
