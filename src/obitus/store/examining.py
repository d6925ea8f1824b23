"""Examining a data folder from outside: what is wrong with it, or soon will be. Nothing is changed; a service may run on it."""

from __future__ import annotations

import os
import shutil
import sqlite3
import stat
import sys
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Final, Literal, NamedTuple

from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS
from obitus.core.days import day_text
from obitus.core.wording import count_of
from obitus.store import reserve
from obitus.store.backups import taken
from obitus.store.backups.taking import DAYS, KEYS, MAIN
from obitus.store.days.files import FOLDER, path_of
from obitus.store.migrations import SCHEMA_VERSION

Grade = Literal["right", "soon", "wrong"]
"""``soon``: it works, but something should be done soon."""

HARDLY_FREE: Final = 50_000_000
LARGE_WAL: Final = 256 * 1024 * 1024
"""Bytes: the service lets it grow to 64 MiB; more means that a long reading transaction is open."""
OLD_BACKUP_MS: Final = 7 * DAY_MS
AHEAD_MS: Final = 5 * MINUTE_MS
LEAST_SQLITE: Final = (3, 35, 0)
FAR_DISKS: Final = frozenset({"nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "fuse.sshfs", "fuse.s3fs", "afs", "ceph"})
"""Network file systems: locks and shared memory do not work there as SQLite's WAL needs them."""
_NEWEST: Final = "SELECT MAX(latest_ms) FROM days"
_SEALED: Final = "SELECT EXISTS (SELECT 1 FROM channels) OR EXISTS (SELECT 1 FROM passing)"


class Finding(NamedTuple):
    """One check."""

    what: str
    grade: Grade
    said: str
    to_do: str = ""


def examine(data: Path, now_ms: int, *, is_running: bool) -> Iterator[Finding]:
    """Yield the checks of a data folder; ``is_running`` says whether a service runs on it."""
    yield _sqlite()
    if not data.exists():
        yield Finding(
            "folder", "soon", f"{data} is not there", "obitus serve makes it at its first start, or give --data."
        )
        return
    yield _rights(data)
    yield _file_system(data)
    yield _room(data)
    yield _file_clock(data)
    if not (data / MAIN).is_file():
        yield Finding("records", "soon", f"no records yet ({MAIN} is missing)", f"Start it: obitus serve --data {data}")
        return
    yield from _records(data, now_ms, is_running=is_running)
    yield _backup(data, now_ms)


def _sqlite() -> Finding:
    version = sqlite3.sqlite_version
    if sqlite3.sqlite_version_info < LEAST_SQLITE:
        return Finding(
            "SQLite",
            "wrong",
            version,
            f"Obitus needs {'.'.join(map(str, LEAST_SQLITE))} or later: take a newer Python.",
        )
    with closing(sqlite3.connect(":memory:")) as connection:
        try:
            connection.execute("CREATE VIRTUAL TABLE words USING fts5(text)")
        except sqlite3.Error:
            return Finding(
                "SQLite", "wrong", f"{version}, without FTS5", "Search needs it: take a Python whose SQLite has it."
            )
    return Finding("SQLite", "right", f"{version}, with FTS5")


def _rights(data: Path) -> Finding:
    if not os.access(data, os.R_OK | os.W_OK | os.X_OK):
        return Finding(
            "rights",
            "wrong",
            f"{data} cannot be written by this user",
            f"Give it to whoever runs the service: chown -R USER {data}",
        )
    if sys.platform == "win32":
        return Finding("rights", "right", "can be written")
    owner = data.stat().st_uid
    open_to_others, foreign = [], []
    for path in (data, *data.glob("*"), *(data / FOLDER).glob("*")):
        try:
            status = path.lstat()
        except OSError:
            continue
        if status.st_uid != owner:
            foreign.append(path)
        if stat.S_IMODE(status.st_mode) & 0o077 and not stat.S_ISLNK(status.st_mode):
            open_to_others.append(path)
    if foreign:
        return Finding(
            "rights", "wrong", f"{foreign[0]} belongs to another user than the folder", f"chown -R USER {data}"
        )
    if open_to_others:
        more = f", and {count_of(len(open_to_others) - 1, 'other')}" if len(open_to_others) > 1 else ""
        return Finding("rights", "soon", f"others may read {open_to_others[0]}{more}", f"chmod -R go= {data}")
    return Finding("rights", "right", "for its owner alone")


def _file_system(data: Path) -> Finding:
    kind = _kind_of_file_system(data)
    if kind in FAR_DISKS:
        return Finding(
            "file system",
            "wrong",
            f"{kind}, over a network",
            "SQLite's log needs a disk of this machine: move the folder to one.",
        )
    return Finding("file system", "right", kind or "cannot be found out here")


def _kind_of_file_system(data: Path) -> str:
    """Return the type of the file system that a folder is on, '' where this system does not say."""
    try:
        mounts = Path("/proc/self/mounts").read_text("utf-8", "replace").splitlines()
    except OSError:
        return ""
    kind, longest = "", -1
    place = str(data.resolve())
    for line in mounts:
        words = line.split(" ")
        if len(words) < 3:
            continue
        at = words[1].replace("\\040", " ")
        if (place == at or place.startswith(at.rstrip("/") + "/")) and len(at) >= longest:
            kind, longest = words[2], len(at)
    return kind


def _room(data: Path) -> Finding:
    free = shutil.disk_usage(data).free
    room = f"{free / 1e9:,.1f} GB free"
    if free < HARDLY_FREE:
        return Finding(
            "disk",
            "wrong",
            room,
            "Reports are refused until there is room: make some, or obitus keep set all --most 10GB",
        )
    if reserve.lacking(data):
        return Finding(
            "disk", "soon", room, "The oldest evidence goes first. For how long it is kept: obitus keep show"
        )
    return Finding("disk", "right", room)


def _file_clock(data: Path) -> Finding:
    """Compare the machine's clock with that of the disk, which is another machine's where the folder is on one."""
    probe = data / f".clock-{os.getpid()}"
    try:
        probe.touch(mode=0o600)
        apart_s = probe.stat().st_mtime - time.time()
    except OSError as error:
        return Finding(
            "clock of the disk",
            "wrong",
            f"no file can be made ({error.strerror})",
            "Look at the disk and at the folder's rights.",
        )
    finally:
        probe.unlink(missing_ok=True)
    if abs(apart_s) > 60:
        return Finding(
            "clock of the disk", "soon", f"{abs(apart_s):,.0f} s apart from this machine's", "Set both by NTP."
        )
    return Finding("clock of the disk", "right", "the same as this machine's")


def _records(data: Path, now_ms: int, *, is_running: bool) -> Iterator[Finding]:
    main = data / MAIN
    try:
        with closing(sqlite3.connect(f"{main.absolute().as_uri()}?mode=ro", uri=True, timeout=5)) as connection:
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            yield _version(version)
            if version == SCHEMA_VERSION:
                newest = connection.execute(_NEWEST).fetchone()[0]
                yield _clock(newest, now_ms)
                yield _days(data, [int(row[0]) for row in connection.execute(DAYS)])
                if connection.execute(_SEALED).fetchone()[0]:
                    yield _keys(data)
    except sqlite3.Error as error:
        yield Finding(
            "records", "wrong", f"{main} cannot be read ({error})", f"obitus verify --data {data} says what is broken."
        )
    yield _wal(data, is_running=is_running)


def _version(version: int) -> Finding:
    if version > SCHEMA_VERSION:
        return Finding(
            "version",
            "wrong",
            f"the records have version {version}, this Obitus knows up to {SCHEMA_VERSION}",
            "Start the newer Obitus.",
        )
    if version < SCHEMA_VERSION:
        return Finding(
            "version",
            "soon",
            f"the records have version {version}, this Obitus brings them to {SCHEMA_VERSION} at its next start",
            "Take a backup before: obitus backup FOLDER",
        )
    return Finding("version", "right", f"{version}, as this Obitus has it")


def _clock(newest_ms: int | None, now_ms: int) -> Finding:
    if newest_ms is not None and newest_ms - now_ms > AHEAD_MS:
        ahead_ms = newest_ms - now_ms
        ahead = f"{ahead_ms / HOUR_MS:,.1f} h" if ahead_ms > HOUR_MS else f"{ahead_ms / MINUTE_MS:,.0f} min"
        return Finding(
            "clock",
            "soon",
            f"the latest report is {ahead} ahead of this machine's clock",
            "The clock went back, or a sender's is wrong: set it by NTP.",
        )
    return Finding("clock", "right", "not behind the latest report")


def _days(data: Path, days: list[int]) -> Finding:
    missing = [day for day in days if not path_of(data / FOLDER, day).is_file()]
    if missing:
        more = f" and {count_of(len(missing) - 1, 'other')}" if len(missing) > 1 else ""
        return Finding(
            "days",
            "wrong",
            f"the file of {day_text(missing[0])}{more} is missing",
            "Bring it back from a backup, or let go of it: obitus verify --repair",
        )
    return Finding("days", "right", count_of(len(days), "file"))


def _keys(data: Path) -> Finding:
    if not (data / KEYS[0]).is_file():
        return Finding(
            "keys",
            "wrong",
            f"{KEYS[0]} is missing: secrets of channels and targets cannot be opened",
            "Bring it back, or give each channel and target its secret again.",
        )
    return Finding("keys", "right", f"{KEYS[0]} is there; keep a copy apart from the backups")


def _wal(data: Path, *, is_running: bool) -> Finding:
    logs = [path for path in (data / f"{MAIN}-wal", *(data / FOLDER).glob("*-wal")) if path.is_file()]
    largest = max((path.stat().st_size for path in logs), default=0)
    if largest > LARGE_WAL:
        return Finding(
            "log of writes",
            "soon",
            f"{largest / 1e6:,.0f} MB wait to be moved into their file",
            "Something reads for long, such as a copy or an open sqlite3: end it.",
        )
    if not is_running and largest:
        return Finding(
            "log of writes",
            "right",
            f"{largest / 1e6:,.1f} MB left by a service that was killed; its next start takes them in. Copy the -wal files with the others",
        )
    return Finding("log of writes", "right", f"{largest / 1e6:,.1f} MB at most")


def _backup(data: Path, now_ms: int) -> Finding:
    latest = taken.latest(data)
    to_do = "From a timer: obitus backup FOLDER"
    if latest is None:
        return Finding("backup", "soon", "none was taken of this folder yet", to_do)
    age_ms = now_ms - latest.made_ms
    age = (
        f"{count_of(age_ms // DAY_MS, 'day')} old, in {latest.folder}"
        if age_ms >= DAY_MS
        else f"of the last day, in {latest.folder}"
    )
    return Finding("backup", "soon", age, to_do) if age_ms > OLD_BACKUP_MS else Finding("backup", "right", age)
