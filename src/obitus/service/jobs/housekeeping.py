"""Periodic work that keeps the records small and fast. One thread; all of it in small pieces."""

from __future__ import annotations

import logging
import threading
import time
from functools import partial
from typing import Final

from obitus.service.clock import Clock
from obitus.service.jobs import first_board, quiet
from obitus.service.jobs.collecting import Collecting
from obitus.service.maps.shelf import Shelf
from obitus.store import calling, deciding, events, now, parking, removing
from obitus.store import quiet as quiet_store
from obitus.store.evidence import add_dictionary
from obitus.store.records import Records

EVERY_S: Final = 5.0
PRUNE_EVERY_S: Final = 600.0
LOOK_EVERY_S: Final = 30.0
RESTS_S: Final = 0.02

_log = logging.getLogger("obitus.service")


class Housekeeping:
    """Trains the dictionary of evidence, removes old events, deletes the rest of removed apps, makes the first
    board, finds quiet failures, and reopens issues that were parked until now.
    """

    def __init__(self, records: Records, clock: Clock, collecting: Collecting, shelf: Shelf) -> None:
        self._records, self._clock, self._collecting, self._shelf = records, clock, collecting, shelf
        self._stopping = threading.Event()
        self._prunes_next_s = 0.0
        self._looks_next_s = 0.0
        self._thread = threading.Thread(target=self._keep, name="obitus-housekeeping", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop."""
        self._stopping.set()
        self._thread.join()

    def _keep(self) -> None:
        steps = (self._train, self._reopen, self._prune, self._remove, self._make_board, self._look)
        while not self._stopping.wait(EVERY_S):
            for step in steps:
                try:
                    step()
                except Exception:
                    # Housekeeping must never stop intake, and one step must not stop the others.
                    _log.exception("housekeeping failed at %s; it will be tried again", step.__name__.strip("_"))

    def _train(self) -> None:
        evidence = self._records.evidence
        if evidence.wants_training() and (body := evidence.train()) is not None:
            now_ms = self._clock.now_ms()
            evidence.use(self._records.writer.run(lambda c: add_dictionary(c, body, now_ms)), body)

    def _prune(self) -> None:
        """Remove old events and old slots, now and then."""
        if time.monotonic() < self._prunes_next_s:
            return
        self._prunes_next_s = time.monotonic() + PRUNE_EVERY_S
        now_ms = self._clock.now_ms()
        for prune in (events.prune, now.prune, calling.prune_spans, quiet_store.prune, deciding.prune):
            while self._records.writer.run(partial(prune, now_ms=now_ms)) and not self._stopping.wait(RESTS_S):
                pass
        self._shelf.tidy(self._records.writer)

    def _reopen(self) -> None:
        """Reopen the issues that were parked until a time that has come."""
        if parking.is_due(self._records.reader, self._clock.now_ms()):
            self._records.writer.run(lambda c: parking.reopen_due(c, self._clock.now_ms()))

    def _make_board(self) -> None:
        first_board.make(self._records, self._clock.now_ms())

    def look_soon(self) -> None:
        """Find quiet failures at the next turn, regardless of the interval."""
        self._looks_next_s = 0.0

    def _look(self) -> None:
        """Find quiet failures, about twice a minute, with at most a tenth of one core."""
        started_s = time.monotonic()
        if started_s < self._looks_next_s:
            return
        self._collecting.add_silent(quiet.look(self._records, self._clock.now_ms()))
        self._looks_next_s = time.monotonic() + max(LOOK_EVERY_S, 9 * (time.monotonic() - started_s))

    def _remove(self) -> None:
        records = self._records
        for work in removing.steps(records.reader, records.days, records.writer.days):
            records.writer.run(work)
            # Other work is written in between.
            if self._stopping.wait(RESTS_S):
                return
