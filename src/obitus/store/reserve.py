"""Room that is kept on the disk: to remove evidence from a disk that is full, something has to be written first."""

from __future__ import annotations

import contextlib
import os
import shutil
from pathlib import Path
from typing import Final

NAME: Final = "room.kept"
MOST_BYTES: Final = 8 * 1024 * 1024
MOST_SHARE: Final = 0.02
"""Of the disk, where it is a small one."""
LEAST_FREE: Final = 1_000_000_000
LEAST_SHARE: Final = 0.05
"""Bytes of the disk, or this share of it where that is less: with less, the oldest evidence goes first, and only then reports are refused."""


def lacking(data: Path) -> int:
    """Return how many bytes a folder's disk lacks of what is to stay free, 0 where it has enough."""
    disk = shutil.disk_usage(data)
    return max(0, min(LEAST_FREE, int(disk.total * LEAST_SHARE)) - disk.free)


def keep(data: Path) -> None:
    """Keep some room in a folder, unless it is kept already, or is not there."""
    path = data / NAME
    if path.exists():
        return
    with contextlib.suppress(OSError):
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        try:
            # A file of zeros that nobody wrote would take no room.
            os.write(handle, os.urandom(min(MOST_BYTES, int(shutil.disk_usage(data).total * MOST_SHARE))))
        except OSError:
            path.unlink(missing_ok=True)
        finally:
            os.close(handle)


def let_go(data: Path) -> bool:
    """Let go of the room that was kept; return whether there was any."""
    try:
        (data / NAME).unlink()
    except OSError:
        return False
    return True
