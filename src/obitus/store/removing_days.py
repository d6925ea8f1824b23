"""Removing a day: its file is deleted, its counts stay, and pages say since when."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.core.days import day_text
from obitus.store.days import removed
from obitus.store.days.files import path_of
from obitus.store.days.reading import DayReaders
from obitus.store.days.writing import WritingDays
from obitus.store.errors import StoreBusy
from obitus.store.writer import Writer

TRIES: Final = 50
_MARK: Final = "UPDATE days SET removed_ms = ?, removed_why = ?, reports = 0 WHERE day = ? AND reports > 0"


def remove_day(writer: Writer, days: DayReaders, day: int, now_ms: int, why: str) -> bool:
    """Remove the reports of a day; return whether there were any. Raises StoreBusy where it is written to all the
    time. ``why`` is shown on pages, such as ``after 30 days``. The writer is held only while a file is closed and
    renamed; the caller's thread deletes the file, which may take long.
    """
    for _ in range(TRIES):
        was_there = writer.run(lambda c: _mark(c, writer.days, day, now_ms, why))
        if was_there is not None:
            break
    else:
        raise StoreBusy(f"{day_text(day)} is written to all the time; try again")
    days.forget(day)
    if was_there:
        removed.delete(path_of(writer.days.folder, day))
    return was_there


def _mark(connection: sqlite3.Connection, writing: WritingDays, day: int, now_ms: int, why: str) -> bool | None:
    """Mark a day as removed and rename its file; return whether there was one, None while the same commit writes to it."""
    if not writing.let_be_removed(day):
        return None
    if connection.execute(_MARK, (now_ms, why, day)).rowcount == 0:
        return False
    removed.put_aside(path_of(writing.folder, day))
    return True
