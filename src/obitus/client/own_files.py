"""Files and folders that belong to this process and its user alone."""

from __future__ import annotations

import os
import stat
from pathlib import Path


def file_of(descriptor: int) -> tuple[int, int]:
    """Return device and inode of a descriptor. Raises OSError where it is closed."""
    status = os.fstat(descriptor)
    return status.st_dev, status.st_ino


def refuse_foreign(folder: Path) -> None:
    """Raise OSError where other users could read or replace files in a folder: folders of others, links, wrong
    modes. In the folder for temporary files anybody may have made a folder of that name.
    """
    status = folder.lstat()
    if stat.S_ISLNK(status.st_mode) or not stat.S_ISDIR(status.st_mode):
        raise OSError(f"{folder} is a link or no folder")
    if hasattr(os, "getuid") and status.st_uid not in (os.getuid(), 0):
        raise OSError(f"{folder} belongs to somebody else")
    if status.st_mode & stat.S_IWOTH and not status.st_mode & stat.S_ISVTX:
        raise OSError(f"{folder} may be written by everybody")


def make_own(folder: Path) -> None:
    """Make a folder of the spool; raises OSError where it, or the folder that contains it, belongs to somebody else."""
    folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    refuse_foreign(folder.parent)
    folder.mkdir(exist_ok=True, mode=0o700)
    refuse_foreign(folder)
