"""How a row is measured and printed."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

ROUNDS = 9


def row(name: str, ours: str, floor: str, ratio: float) -> None:
    """Print one row."""
    print(f"{name:<52}{ours:>14}{floor:>14}{ratio:>9.2f}", flush=True)


def in_turns(ours: Callable[[], float], floor: Callable[[], float]) -> tuple[float, float]:
    """Return the median of both, measured in alternating order."""
    one: list[float] = []
    two: list[float] = []
    for i in range(ROUNDS):
        for measure, found in ((ours, one), (floor, two)) if i % 2 else ((floor, two), (ours, one)):
            found.append(measure())
    return statistics.median(one), statistics.median(two)


def median_s(work: Callable[[], Any]) -> float:
    """Return the median of the seconds that a piece of work takes, once it was done before."""
    work()
    return statistics.median(timed(work, 1) for _ in range(ROUNDS))


def timed(work: Callable[[], Any], times: int) -> float:
    """Return the seconds that one piece of work takes, over ``times`` pieces."""
    started = time.perf_counter()
    for _ in range(times):
        work()
    return (time.perf_counter() - started) / times
