"""Going through the records of a window, newest first, one stretch of time after the other, so that first results come soon."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, Final, Protocol

from obitus.core.asking.records import Kind
from obitus.core.asking.tree import Node
from obitus.core.clock import MINUTE_MS
from obitus.store.asking.compiling import Compiler, Names
from obitus.store.asking.finding import NARROWED, narrowed_places
from obitus.store.days.reading import DayReaders
from obitus.store.errors import EvidenceGone, QueryTooLong, StoreDamaged

MOST_NARROWED: Final = 20_000
FIRST_STRETCH_MS: Final = 10 * MINUTE_MS
QUICK_S, SLOW_S = 0.06, 0.25
"""A stretch that took less time is doubled, one that took longer is halved."""


@dataclass(slots=True)
class Going:
    """Progress."""

    from_ms: int
    to_ms: int
    back_to_ms: int = field(init=False)
    """Everything from here to the end was read."""
    done: bool = False
    cut: str = ""
    """Why not everything was read, in words; '' where everything was."""

    def __post_init__(self) -> None:
        self.back_to_ms = self.to_ms


class OfDay(Protocol):
    """The work on one day file."""

    is_narrow: bool
    """Whether an index has narrowed it down to few rows, which are read at once."""

    def add(self, from_ms: int, to_ms: int) -> None:
        """Read what is between two times."""


def newest_first(
    days: DayReaders, going: Going, limit_s: float, begin: Callable[[sqlite3.Connection, int], OfDay]
) -> Iterator[None]:
    """Go through a window; yield after each stretch, and once more at the end. ``begin`` is called for each day file."""
    ends = time.monotonic() + limit_s
    stretch_ms = FIRST_STRETCH_MS
    days_here = days.known(going.from_ms, going.to_ms)
    for at, day in enumerate(days_here):
        start_ms, end_ms = max(going.from_ms, day.earliest_ms), min(going.to_ms, day.latest_ms + 1)
        # Other days may have records older than this day's latest.
        older_ms = days_here[at + 1].latest_ms if at + 1 < len(days_here) else going.from_ms
        try:
            left_s = ends - time.monotonic()
            if left_s <= 0:
                raise QueryTooLong
            with days.open(day.day, limit_s=left_s) as connection:
                of_day = begin(connection, day.day)
                while start_ms < end_ms:
                    begin_ms = start_ms if of_day.is_narrow else max(start_ms, end_ms - stretch_ms)
                    began_s = time.monotonic()
                    of_day.add(begin_ms, end_ms)
                    took_s = time.monotonic() - began_s
                    end_ms = begin_ms
                    if took_s < QUICK_S:
                        stretch_ms *= 2
                    elif took_s > SLOW_S:
                        stretch_ms = max(1000, stretch_ms // 2)
                    going.back_to_ms = max(begin_ms, min(older_ms, going.to_ms))
                    yield
        except EvidenceGone:
            continue
        except StoreDamaged as error:
            going.cut = str(error)
        except QueryTooLong:
            going.cut = f"Counting took longer than {limit_s:g} s and was stopped: older ones are not counted. Ask for less time, or for something exact."
            break
    going.done = True
    if not going.cut:
        going.back_to_ms = going.from_ms
    yield


def condition_of(
    connection: sqlite3.Connection, kind: Kind, node: Node | None, names: Names
) -> tuple[str, list[Any], bool]:
    """Return the condition of a question between two times, its parameters, and whether the index narrowed it down.
    The functions that it calls are registered on the connection, even for an empty question.
    """
    where, params, is_narrow = "time_ms >= ? AND time_ms < ?", list[Any](), False
    compiler = Compiler(connection, kind, names)
    if node is not None:
        places = narrowed_places(connection, node, kind, MOST_NARROWED)
        if places is not None:
            is_narrow = True
            where += NARROWED
            params.append(places)
        condition = compiler.condition(node)
        where += f" AND {condition.sql}"
        params += condition.params
    return where, params, is_narrow
