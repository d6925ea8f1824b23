"""Taking a backup of records, also while a service writes them. A folder holds one backup; the next one copies what has changed."""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Final

from obitus.core.days import day_text
from obitus.store import errors
from obitus.store.backups import listing, taken
from obitus.store.backups.listing import Copied, Listing
from obitus.store.database import our_errors
from obitus.store.days.files import FOLDER, HAS_FILE, path_of
from obitus.store.maps import DAMAGED, SUFFIX
from obitus.store.maps import FOLDER as MAPS

MAIN: Final = "obitus.sqlite3"
SETTINGS: Final = ("allowed.toml",)
KEYS: Final = ("channels.key",)
"""The key of the secrets of channels and targets: copied only on request."""
_NEW: Final = ".new"
DAYS: Final = f"SELECT day FROM days WHERE {HAS_FILE} ORDER BY day"  # noqa: S608 - a constant
Progress = Callable[[str, int], None]


def take(
    data: Path, folder: Path, now_ms: int, *, with_keys: bool = False, said: Progress = lambda _, __: None
) -> Listing:
    """Copy the records of a data folder, and return the backup's list. Raises StoreError. An earlier backup there
    stays valid until the new one is complete; after an interruption at any point the folder can be restored.
    ``said`` is called with each copied file and its size.
    """
    main = data / MAIN
    if not main.is_file():
        raise errors.NotThere(f"{data} holds no records ({MAIN} is missing)")
    if folder.resolve() == data.resolve() or folder.resolve().is_relative_to(data.resolve()):
        raise errors.StoreReadOnly(f"{folder} is in the data folder itself: a lost disk takes both")
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if any(folder.iterdir()) and not (folder / listing.NAME).exists() and not (folder / (MAIN + _NEW)).exists():
            raise errors.StoreReadOnly(f"{folder} holds something that is no backup. Name an empty folder")
        (folder / FOLDER).mkdir(exist_ok=True, mode=0o700)
        return _take(data, folder, now_ms, with_keys=with_keys, said=said)
    except OSError as error:
        kind = errors.StoreFull if error.errno == 28 else errors.StoreReadOnly
        raise kind(f"{folder} cannot be written ({error.strerror}); what was there before is still a backup") from error


def _take(data: Path, folder: Path, now_ms: int, *, with_keys: bool, said: Progress) -> Listing:
    before = listing.read(folder) if (folder / listing.NAME).exists() else None
    for left in (*folder.glob("*" + _NEW), *(folder / FOLDER).glob("*" + _NEW)):
        left.unlink()
    # The main file first: records of days that it does not count are deleted at the restore.
    schema, days = _main(data / MAIN, folder / (MAIN + _NEW))
    said(MAIN, (folder / (MAIN + _NEW)).stat().st_size)
    files: list[Copied] = []
    new: list[str] = []
    for day in days:
        name = f"{FOLDER}/{day_text(day)}.sqlite3"
        source = path_of(data / FOLDER, day)
        if not source.exists():
            # Removed since the main file was copied; the restore marks it as gone.
            continue
        state = _state(source)
        file_before = before.file(name) if before is not None else None
        if file_before is not None and file_before.source == state and state != (0, 0) and (folder / name).is_file():
            files.append(file_before)
            continue
        copied = folder / (name + _NEW)
        _copy(source, copied)
        new.append(name)
        files.append(Copied(name, copied.stat().st_size, listing.hash_of(copied), state))
        said(name, copied.stat().st_size)
    files += _maps(data, folder)
    for name in (*SETTINGS, *(KEYS if with_keys else ())):
        if (data / name).is_file():
            shutil.copyfile(data / name, folder / (name + _NEW))
            (folder / (name + _NEW)).chmod(0o600)
            new.append(name)
            files.append(Copied(name, (folder / (name + _NEW)).stat().st_size, listing.hash_of(folder / (name + _NEW))))
    new.append(MAIN)
    files.append(Copied(MAIN, (folder / (MAIN + _NEW)).stat().st_size, listing.hash_of(folder / (MAIN + _NEW))))
    for name in new:
        _synced(folder / (name + _NEW))
    # Days are replaced before the main file: a newer day is cut back to the main file, an older one would lack records.
    for name in new:
        (folder / (name + _NEW)).replace(folder / name)
    listing_made = Listing(now_ms, schema, tuple(sorted(files, key=lambda one: one.path)))
    listing.write(folder, listing_made)
    taken.note(data, taken.Latest(now_ms, str(folder.resolve()), listing_made.bytes))
    kept = {one.path for one in listing_made.files}
    for path in (*(folder / FOLDER).glob("*.sqlite3"), *(folder / MAPS).glob("*")):
        if path.relative_to(folder).as_posix() not in kept:
            path.unlink()
    return listing_made


def _main(source: Path, target: Path) -> tuple[int, list[int]]:
    _copy(source, target)
    with our_errors(target), closing(sqlite3.connect(target, isolation_level=None)) as connection:
        schema = int(connection.execute("PRAGMA user_version").fetchone()[0])
        return schema, [int(row[0]) for row in connection.execute(DAYS)]


def _copy(source: Path, target: Path) -> None:
    """Copy a database at one moment, while it may be written, and check the copy."""
    address = f"{source.absolute().as_uri()}?mode=ro"
    with our_errors(source), closing(sqlite3.connect(address, uri=True, isolation_level=None)) as reading:
        target.unlink(missing_ok=True)
        target.touch(mode=0o600)
        with our_errors(target), closing(sqlite3.connect(target, isolation_level=None)) as writing:
            # In one step: commits meanwhile do not restart it.
            reading.backup(writing, pages=-1)
            writing.execute("PRAGMA journal_mode = DELETE")
            wrong = writing.execute("PRAGMA quick_check(1)").fetchone()[0]
            if wrong != "ok":
                raise errors.StoreDamaged(
                    f"{source}: {wrong}. Look at it with `obitus verify`; the backup from before is kept"
                )


def _state(source: Path) -> tuple[int, int]:
    """Return the mark by which a day's file is known to be unchanged; (0, 0) while its write-ahead log is not empty."""
    wal = source.with_name(source.name + "-wal")
    if wal.exists() and wal.stat().st_size:
        return (0, 0)
    status = source.stat()
    return (status.st_mtime_ns, status.st_size)


def _maps(data: Path, folder: Path) -> list[Copied]:
    """Copy source maps: each is a file that never changes, named by its hash."""
    files = []
    # The copy of one that was damaged since then is the only good one.
    names = {
        path.name.removesuffix(suffix) for suffix in (SUFFIX, DAMAGED) for path in (data / MAPS).glob(f"*{suffix}")
    }
    for name in sorted(f"{name}{SUFFIX}" for name in names):
        target = folder / MAPS / name
        if not target.exists():
            target.parent.mkdir(exist_ok=True, mode=0o700)
            partial = target.with_name(name + _NEW)
            try:
                shutil.copyfile(data / MAPS / name, partial)
            except FileNotFoundError:
                # Damaged before it was copied, or its release was removed meanwhile.
                continue
            partial.chmod(0o600)
            _synced(partial)
            partial.replace(target)
        files.append(Copied(f"{MAPS}/{name}", target.stat().st_size, listing.hash_of(target)))
    return files


def _synced(path: Path) -> None:
    with path.open("rb+") as opened:
        os.fsync(opened.fileno())
