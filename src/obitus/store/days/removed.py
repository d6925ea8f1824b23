"""Files of days that are being removed: renamed at once, deleted later, restored where the removal was interrupted."""

from __future__ import annotations

import contextlib
import logging
import sqlite3
from pathlib import Path
from typing import Final

from obitus.core.days import day_named

_log = logging.getLogger("obitus.store")

ENDING: Final = ".removed"
THINNER: Final = ".thinner"
"""Suffix of a file that is being rewritten (see ``thinning``)."""
WAS_MISSING: Final = "since its file was missing"
WAS_CUT: Final = "since its file was cut or replaced by an older one"
# The write-ahead log first: without its file it is worthless.
_BESIDE: Final = ("-shm", "-wal", "")
_IS_REMOVED: Final = "SELECT removed_ms IS NOT NULL FROM days WHERE day = ?"


def put_aside(path: Path) -> None:
    """Rename a day's file and the files beside it, which is instant for any size."""
    _rename(f"{path}", f"{path}{ENDING}")


def delete(path: Path) -> None:
    """Delete renamed files."""
    for beside in _BESIDE:
        with contextlib.suppress(FileNotFoundError):
            Path(f"{path}{ENDING}{beside}").unlink()


def keep_damaged(path: Path) -> Path:
    """Rename an unreadable file, and return the new path: perhaps something can be saved from it."""
    number = 1
    while (path_kept := path.with_name(f"{path.name}.damaged-{number}")).exists():
        number += 1
    _rename(f"{path}", f"{path_kept}")
    return path_kept


def was_damaged(kept: Path) -> str:
    """Return why a day is empty whose damaged file was renamed."""
    return f"since its file was damaged; that is kept as {kept.name}"


def tidy(folder: Path, main: sqlite3.Connection) -> None:
    """Finish interrupted removals: delete files of days that are marked as removed, restore others."""
    for left in folder.glob(f"*.sqlite3{ENDING}"):
        path = left.with_name(left.name.removesuffix(ENDING))
        day = day_named(path.stem)
        row = main.execute(_IS_REMOVED, (day,)).fetchone() if day is not None else None
        if row is not None and row[0]:
            delete(path)
        elif not path.exists():
            _log.warning("the removal of %s was broken off; it is kept", path)
            _rename(f"{path}{ENDING}", f"{path}")
        else:
            # The rewritten one has replaced it.
            delete(path)


def forget_unfinished(folder: Path) -> None:
    """Delete files that were being rewritten when a service ended."""
    for left in folder.glob(f"*.sqlite3{THINNER}*"):
        left.unlink()


def _rename(before: str, after: str) -> None:
    for beside in _BESIDE:
        with contextlib.suppress(FileNotFoundError):
            Path(before + beside).rename(after + beside)
