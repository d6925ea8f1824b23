"""How time grows with size, measured so that a machine that is busy with something else for a while proves nothing."""

from __future__ import annotations

import time
from collections.abc import Callable

TURNS = 8


def seconds(work: Callable[[], object]) -> float:
    """Return the processor's time that work takes."""
    started_s = time.process_time()
    work()
    return time.process_time() - started_s


def growth(small: Callable[[], object], large: Callable[[], object], most: float) -> float:
    """Return how many times as long ``large`` takes as ``small``: the shortest of each of a few turns, up to ``most`` if it can be."""
    shortest = longest = float("inf")
    for _ in range(TURNS):
        shortest, longest = min(shortest, seconds(small)), min(longest, seconds(large))
        if longest / max(shortest, 1e-4) <= most:
            break
    return longest / max(shortest, 1e-4)
