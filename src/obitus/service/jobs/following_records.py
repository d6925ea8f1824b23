"""The tail: new records are read as they are committed, and passed to those who follow them."""

from __future__ import annotations

import asyncio
import logging
import threading
from collections import Counter
from collections.abc import Hashable, Mapping, Sequence
from contextlib import ExitStack
from typing import Annotated, ClassVar, Final

from obitus.core.asking import Node
from obitus.core.asking.records import Kind
from obitus.service.dependencies import part
from obitus.service.jobs.runner import Job
from obitus.store import events
from obitus.store.asking.finding import arrived, names_in
from obitus.store.asking.records import Record
from obitus.store.errors import UNREADABLE, QueryTooLong
from obitus.store.records import Records

MOST_TAILS: Final = 60
MOST_OF_A_PASS: Final = 10
MOST_AT_ONCE: Final = 200
"""Most records for one tail in one turn; of more, the newest."""
MOST_OF_A_LOOK: Final = 200
FEWEST_AT_ONCE: Final = 20
"""Most records for all tails together in one turn, shared equally, and the fewest for each: many tails must not hold up senders."""
MOST_WAITING: Final = 1_000
"""Most records that wait for a tail that does not read."""
MOST_DAYS: Final = 8
"""The number of newest days that are followed."""
LIMIT_S: Final = 0.2
"""Longest time for the question of one tail in one turn."""

Marks = Mapping[int, int]
"""By day, the last place that was read."""
_log = logging.getLogger("obitus.service")


class Tail:
    """One tail: its question, its positions, and waiting records. Its methods are called on its event loop."""

    def __init__(self, pass_id: str, records: Records, kind: Kind, node: Node | None, marks: Marks) -> None:
        self.pass_id, self.kind, self.node = pass_id, kind, node
        self.records = records
        """Limited to what the person sees."""
        self.marks = dict(marks)
        """Its positions, guarded by ``turn``."""
        self.turn = threading.Lock()
        self._loop = asyncio.get_running_loop()
        self._woken = asyncio.Event()
        self._records: list[Record] = []
        self._read_to = dict(marks)
        self._left_out = 0
        self.ended = False

    async def read(self) -> tuple[list[Record], int, Marks]:
        """Return the records since the last time, oldest first, how many were left out, and the positions."""
        await self._woken.wait()
        self._woken.clear()
        records, self._records = self._records, []
        left_out, self._left_out = self._left_out, 0
        return records, left_out, dict(self._read_to)

    def hand(self, records: list[Record], left_out: int, marks: Marks) -> None:
        """Add records for the reader. Called from any thread."""
        self._loop.call_soon_threadsafe(self._take, records, left_out, dict(marks))

    def end(self) -> None:
        """End it. Called from any thread."""
        self._loop.call_soon_threadsafe(self._end)

    def _take(self, records: list[Record], left_out: int, marks: Marks) -> None:
        self._records += records
        self._left_out += left_out
        if len(self._records) > MOST_WAITING:
            self._left_out += len(self._records) - MOST_WAITING
            del self._records[:-MOST_WAITING]
        self._read_to = dict(marks)
        self._woken.set()

    def _end(self) -> None:
        self.ended = True
        self._woken.set()


class Tailing(Job):
    """Searches new records for each tail, a few times a second while reports come."""

    name: ClassVar = "tailing"
    kinds: ClassVar = frozenset[events.Kind]()
    rest_s: ClassVar = 0.2
    longest_rest_s: ClassVar = 1.0
    from_newest: ClassVar = True

    def __init__(self, records: Records) -> None:
        self._records = records
        self._tails: dict[Tail, None] = {}
        self._of_pass: Counter[str] = Counter()
        self._lock = threading.Lock()
        self._closed = False

    def newest(self) -> Marks:
        """Return the present ends of the newest days' files."""
        return {day.day: day.last_place for day in self._records.days.latest(MOST_DAYS)}

    def is_full(self, pass_id: str) -> bool:
        """Whether the bound of tails is reached, in all or with this session or token."""
        return len(self._tails) >= MOST_TAILS or self._of_pass[pass_id] >= MOST_OF_A_PASS

    def add(self, tail: Tail) -> None:
        """Add a tail."""
        with self._lock:
            if self._closed:
                tail.end()
            self._tails[tail] = None
            self._of_pass[tail.pass_id] += 1

    def remove(self, tail: Tail) -> None:
        """Remove a tail."""
        with self._lock:
            del self._tails[tail]
            self._of_pass[tail.pass_id] -= 1
            if not self._of_pass[tail.pass_id]:
                del self._of_pass[tail.pass_id]

    def end(self, pass_id: str | None) -> None:
        """End the tails of a session or token that has ended; all with None."""
        with self._lock:
            for tail in self._tails:
                if pass_id is None or tail.pass_id == pass_id:
                    tail.end()

    def close(self) -> None:
        """End every tail, so that the service can stop; later ones are ended at once."""
        with self._lock:
            self._closed = True
            for tail in self._tails:
                tail.end()

    def take(self, event: events.Event) -> None:
        """Events are no records: nothing."""

    def finish_turn(self) -> None:
        """Search the records since the last time."""
        with self._lock:
            tails = list(self._tails)
        if not tails:
            return
        # Tails with the same question are searched once.
        alike: dict[Hashable, list[Tail]] = {}
        for tail in tails:
            alike.setdefault((tail.records, tail.kind, tail.node, tuple(sorted(tail.marks.items()))), []).append(tail)
        for together in alike.values():
            self._look_for(together, len(alike))

    def look_at(self, tail: Tail) -> None:
        """Give a tail the records since its positions."""
        self._look_for([tail], 1)

    def _look_for(self, tails: Sequence[Tail], looks: int) -> None:
        """Give tails with the same question and positions the records since then; it is one of so many searches of this turn."""
        most = min(MOST_AT_ONCE, max(FEWEST_AT_ONCE, MOST_OF_A_LOOK // looks))
        tail = tails[0]
        with ExitStack() as turns:
            for followed in tails:
                turns.enter_context(followed.turn)
            # One that another thread has served meanwhile is served in the next turn.
            tails = [followed for followed in tails if followed.marks == tail.marks]
            newest, names = self.newest(), names_in(tail.records.reader)
            records: list[Record] = []
            left_out = 0
            try:
                for day in sorted(newest):
                    after = tail.marks.get(day, 0)
                    if newest[day] > after:
                        places = (after, newest[day])
                        some, more = arrived(tail.records.days, day, tail.kind, tail.node, names, places, most, LIMIT_S)
                        records += some
                        left_out += more
            except QueryTooLong:
                # The person sees that there was more, and may search.
                records, left_out = [], 1
            except UNREADABLE as error:
                _log.warning("a tail cannot read: %s", error)
                return
            records.sort(key=lambda record: (record.time_ms, record.seq))
            for followed in tails:
                followed.marks = dict(newest)
                if records or left_out:
                    followed.hand(list(records), left_out, followed.marks)


TheTailing = Annotated[Tailing, part("tailing")]
