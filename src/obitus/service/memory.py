"""How the C library holds memory: what is asked of glibc; another C library is left as it is."""

from __future__ import annotations

import contextlib
import ctypes
from typing import Final

M_ARENA_MAX: Final = -8
"""What glibc's ``malloc.h`` calls by this number."""
MOST_ARENAS: Final = 2


def share_the_heap() -> None:
    """Have threads take memory from few places: each has one of its own otherwise, and what one of them let go no other can use.

    ``mallopt(M_ARENA_MAX)`` of glibc.
    """
    with contextlib.suppress(OSError, AttributeError, TypeError):
        ctypes.CDLL(None).mallopt(M_ARENA_MAX, MOST_ARENAS)


def give_back() -> None:
    """Give what was let go back to the system: otherwise the next large piece of work comes on top of what the last one took.

    ``malloc_trim`` of glibc; it takes some milliseconds where there is much.
    """
    with contextlib.suppress(OSError, AttributeError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)
