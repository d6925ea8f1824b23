"""File locks that end with their process, however it ends, so that another process can take over."""

from __future__ import annotations

import os
from pathlib import Path

try:
    import fcntl
except ImportError:  # not a POSIX system
    fcntl = None  # type: ignore[assignment]

AVAILABLE = fcntl is not None


def open_locked(path: Path, flags: int = os.O_RDWR) -> int | None:
    """Open a file and lock it; return the descriptor, or None where another process holds it. Raises OSError."""
    if fcntl is None:
        raise OSError("this system has no file locks")
    descriptor = os.open(path, flags | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NOFOLLOW", 0), 0o600)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(descriptor)
        return None
    except BaseException:
        os.close(descriptor)
        raise
    try:
        # It may have been removed between opening and locking: then the lock is worthless.
        if os.fstat(descriptor).st_nlink == 0:
            os.close(descriptor)
            return None
    except OSError:
        os.close(descriptor)
        raise
    return descriptor
