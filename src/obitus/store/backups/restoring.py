"""Restoring a backup: every file is compared with its checksum, then the days are cut back to one moment."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Final

from obitus.store import errors
from obitus.store.backups import listing
from obitus.store.backups.listing import Listing
from obitus.store.backups.taking import MAIN
from obitus.store.database import lock_folder, our_errors
from obitus.store.days.files import FOLDER, HAS_FILE, path_of
from obitus.store.days.writing import DayFile
from obitus.store.migrations import SCHEMA_VERSION

_DAYS: Final = f"SELECT day, last_place FROM days WHERE {HAS_FILE}"  # noqa: S608 - a constant


def check(folder: Path) -> Listing:
    """Compare every file of a backup with its checksum; raises StoreDamaged, naming the first that differs."""
    listing_read = listing.read(folder)
    if listing_read.schema > SCHEMA_VERSION:
        raise errors.StoreTooNew(
            f"{folder} has schema version {listing_read.schema}, this Obitus knows up to {SCHEMA_VERSION}. Start the newer version"
        )
    for file in listing_read.files:
        path = folder / file.path
        if not path.is_file():
            raise errors.StoreDamaged(f"{path} is missing; the backup is not whole, and nothing was brought back")
        if path.stat().st_size != file.bytes or listing.hash_of(path) != file.sha256:
            raise errors.StoreDamaged(
                f"{path} differs from its checksum; the backup is damaged, and nothing was restored"
            )
    return listing_read


def restore(folder: Path, data: Path) -> Listing:
    """Restore a backup into a data folder that holds no records, and return its list. Raises StoreError."""
    listing_read = check(folder)
    if (data / MAIN).exists() or list((data / FOLDER).glob("*.sqlite3")):
        raise errors.StoreReadOnly(f"{data} holds records already. Move them away, or name another folder")
    with lock_folder(data):
        for file in listing_read.files:
            target = data / file.path
            target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if file.path != MAIN:
                shutil.copyfile(folder / file.path, target)
                target.chmod(0o600)
        # The main file last: without it the folder holds no records.
        shutil.copyfile(folder / MAIN, data / MAIN)
        (data / MAIN).chmod(0o600)
        _cut_back(data)
    return listing_read


def _cut_back(data: Path) -> None:
    """Delete records of days that the main file does not count, and mark days that were not copied as gone."""
    with our_errors(data / MAIN), closing(sqlite3.connect(data / MAIN, isolation_level=None)) as main:
        rows = main.execute(_DAYS).fetchall()
        for day, last_place in rows:
            path = path_of(data / FOLDER, day)
            if path.exists():
                DayFile(path, day, last_place, main, is_new=False).connection.close()
            else:
                main.execute(
                    "UPDATE days SET removed_ms = latest_ms, removed_why = ?, reports = 0 WHERE day = ?",
                    ("since its file was removed while the backup was taken", day),
                )
