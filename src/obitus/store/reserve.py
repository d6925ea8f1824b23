"""Reserved room on the disk: removing evidence from a full disk needs to write something first."""

from __future__ import annotations

import contextlib
import os
import shutil
from pathlib import Path
from typing import Final

NAME: Final = "room.kept"
MOST_BYTES: Final = 8 * 1024 * 1024
MOST_SHARE: Final = 0.02
"""Share of a small disk."""
LEAST_FREE: Final = 1_000_000_000
LEAST_SHARE: Final = 0.05
"""Free bytes of the disk, or this share of it where that is less: below it the oldest evidence is removed first, and
only then reports are refused."""


def lacking(data: Path) -> int:
    """Return how many bytes of the free room are missing on a folder's disk, 0 where there are enough."""
    disk = shutil.disk_usage(data)
    return max(0, min(LEAST_FREE, int(disk.total * LEAST_SHARE)) - disk.free)


def keep(data: Path) -> None:
    """Reserve room in a folder, unless it is reserved already, or missing."""
    path = data / NAME
    if path.exists():
        return
    with contextlib.suppress(OSError):
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        try:
            # A sparse file would take no room.
            os.write(handle, os.urandom(min(MOST_BYTES, int(shutil.disk_usage(data).total * MOST_SHARE))))
        except OSError:
            path.unlink(missing_ok=True)
        finally:
            os.close(handle)


def let_go(data: Path) -> bool:
    """Release the reserved room; return whether there was any."""
    try:
        (data / NAME).unlink()
    except OSError:
        return False
    return True
