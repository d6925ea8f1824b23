"""The runner of jobs: each reads the events in order, on a thread of its own, from a position that is kept in the store.

After a kill a job continues from its position: it may get events again, but always in order and without gaps. A job that is slow or broken holds up neither the others nor intake.
"""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import ClassVar, Final

from obitus.store import events
from obitus.store.errors import StoreBusy, StoreTrouble
from obitus.store.events import Event, Kind
from obitus.store.records import Records

KEPT_EVERY_S: Final = 1.0
"""Interval of storing the position of a busy job."""
MOST_TRIES: Final = 3
"""Tries of a job with one event while the store works; then the event is skipped and logged."""
AGAIN_S: Final = 1.0
LOOKED_AFTER_S: Final = 0.01
"""Delay between a commit and reading new events: the commit is answered first, and several commits are handled together."""

_log = logging.getLogger("obitus.service")


class Interrupted(Exception):
    """A job stops in the middle of an event, because the service stops. It gets that event again."""


class Job:
    """A job: handles events. Add it to a runner."""

    name: ClassVar[str]
    kinds: ClassVar[frozenset[Kind] | None] = None
    """Which kinds it wants, None for all."""
    rest_s: ClassVar[float] = 0.02
    """Shortest pause between two turns."""
    longest_rest_s: ClassVar[float] = 0.02
    """Longest pause. A job pauses nine times as long as its turn took, so that it uses at most a tenth of one core."""
    from_newest: ClassVar[bool] = False
    """Whether it starts after all past events in a store where it never ran."""

    def take(self, event: Event) -> None:
        """Handle an event. The same event may come again after a kill."""
        raise NotImplementedError

    def finish_turn(self) -> None:
        """Work after all present events have been handled. A job that overrides this takes a turn after each commit,
        even without events.
        """


@dataclass
class _Run:
    """One job while it runs."""

    job: Job
    at: int
    """The last event that it has read."""
    kept: int
    """The stored position."""
    kept_s: float = 0.0
    tries: int = 0
    is_broken: bool = False
    turn: threading.Lock = field(default_factory=threading.Lock)
    woken: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None

    @property
    def looks_at_commits(self) -> bool:
        """Whether it has work after a commit without events."""
        return type(self.job).finish_turn is not Job.finish_turn


class Runner:
    """Runs jobs. Add them, then ``start``; ``close`` lets each finish its step."""

    def __init__(self, records: Records) -> None:
        self._records = records
        self._runs: dict[str, _Run] = {}
        self._committed = threading.Event()
        self._looking = threading.Thread(target=self._look_for_events, name="obitus-looking", daemon=True)
        self.stopping = threading.Event()
        """Set when the service stops: a long job checks it, and raises Interrupted."""

    def start(self, jobs: Iterable[Job]) -> None:
        """Run jobs from now on."""
        reader, writer = self._records.reader, self._records.writer
        newest = events.newest(reader)
        for job in jobs:
            position = events.position(reader, job.name)
            at = (newest if job.from_newest else 0) if position is None else position
            self._runs[job.name] = _Run(job, at, -1 if position is None else position)
        if gone := set(events.jobs(reader)) - self._runs.keys():
            # The position of a removed job would keep all events for ever.
            writer.submit(lambda c: events.forget_positions(c, sorted(gone)))
        writer.committed = self._committed.set
        self._looking.start()
        for run in self._runs.values():
            run.woken.set()
            run.thread = threading.Thread(target=self._serve, args=(run,), name=f"obitus-{run.job.name}", daemon=True)
            run.thread.start()

    def close(self) -> None:
        """Stop all jobs, each after its present step."""
        self.stopping.set()
        self._committed.set()
        if self._looking.is_alive():
            self._looking.join()
        for run in self._runs.values():
            run.woken.set()
            if run.thread is not None:
                run.thread.join()
            if run.kept != run.at:
                self._keep(run)

    def look(self, name: str) -> None:
        """Make a job take a turn now and store its position, and wait for that."""
        run = self._runs[name]
        self._turn(run)
        with run.turn:
            self._keep(run)

    def is_idle(self, name: str) -> bool:
        """Whether a job has taken all events that there are, or is no longer running."""
        run = self._runs[name]
        if run.thread is None or not run.thread.is_alive():
            return True
        return not run.turn.locked() and run.at >= events.newest(self._records.reader)

    def _look_for_events(self) -> None:
        """After each commit, wake the jobs with work. One thread checks for all: most commits bring no event."""
        while True:
            self._committed.wait()
            if self.stopping.wait(LOOKED_AFTER_S):
                return
            self._committed.clear()
            # Checked again: the cleared event may have been the one for the stop, which is set after ``stopping``.
            if self.stopping.is_set():
                return
            try:
                newest = float(events.newest(self._records.reader))
            except Exception:
                # Each job finds and logs the error itself.
                newest = math.inf
            for run in self._runs.values():
                if run.at < newest or run.looks_at_commits:
                    run.woken.set()

    def _serve(self, run: _Run) -> None:
        while not self.stopping.is_set():
            run.woken.wait(None if run.kept == run.at else KEPT_EVERY_S)
            if self.stopping.is_set():
                break
            run.woken.clear()
            started_s = time.monotonic()
            try:
                self._turn(run)
                run.is_broken = False
            except Interrupted:
                break
            except Exception:
                if not run.is_broken:
                    _log.exception("the job %s broke off; it is tried again until it succeeds", run.job.name)
                run.is_broken = True
                run.woken.set()
                self.stopping.wait(AGAIN_S)
            took_s = time.monotonic() - started_s
            self.stopping.wait(min(run.job.longest_rest_s, max(run.job.rest_s, 9 * took_s)))

    def _turn(self, run: _Run) -> None:
        with run.turn:
            try:
                while found := events.after(self._records.reader, run.at):
                    for event in found:
                        self._take(run, event)
                    if self.stopping.is_set():
                        break
                run.job.finish_turn()
            finally:
                if run.kept != run.at and time.monotonic() - run.kept_s > KEPT_EVERY_S:
                    self._keep(run)

    def _take(self, run: _Run, event: Event) -> None:
        if run.job.kinds is None or event.kind in run.job.kinds:
            try:
                run.job.take(event)
            except Interrupted:
                raise
            except Exception as error:
                # While nothing can be written, every job fails; the event is not the reason.
                if self._records.writer.trouble is None and not isinstance(error, StoreBusy):
                    run.tries += 1
                if run.tries < MOST_TRIES:
                    raise
                _log.exception("the job %s passes over event %d (%s)", run.job.name, event.id, event.kind)
        run.tries = 0
        run.at = event.id

    def _keep(self, run: _Run) -> None:
        at = run.at
        # It is stored later; until then a kill makes the job read more events twice.
        with suppress(StoreTrouble, StoreBusy):
            self._records.writer.run(lambda c: events.move(c, run.job.name, at))
            run.kept, run.kept_s = at, time.monotonic()
