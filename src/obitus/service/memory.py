"""Settings of glibc's memory allocator; other C libraries are left as they are."""

from __future__ import annotations

import contextlib
import ctypes
from typing import Final

M_ARENA_MAX: Final = -8
"""Constant of glibc's ``malloc.h``."""
MOST_ARENAS: Final = 2


def share_the_heap() -> None:
    """Limit the number of arenas: otherwise each thread has its own, and memory freed by one cannot be used by another.

    ``mallopt(M_ARENA_MAX)`` of glibc.
    """
    with contextlib.suppress(OSError, AttributeError, TypeError):
        ctypes.CDLL(None).mallopt(M_ARENA_MAX, MOST_ARENAS)


def give_back() -> None:
    """Return free memory to the system: otherwise the next large piece of work adds to the memory of the last one.

    ``malloc_trim`` of glibc; it takes some milliseconds where there is much.
    """
    with contextlib.suppress(OSError, AttributeError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)
