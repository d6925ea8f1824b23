"""The single writer: one thread owns the write connection; many callers' work goes into one commit.

A caller gives a piece of work and gets a future. The future is done only after the commit that holds the work is on
disk. Work that raises is rolled back alone; the others in the same commit are kept.
"""

from __future__ import annotations

import logging
import queue
import sqlite3
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Final, Literal, TypeVar, cast

from obitus.store import errors
from obitus.store.database import NO_FILES_ASIDE, file_identity, let_go, our_errors
from obitus.store.days.files import folder_beside
from obitus.store.days.writing import WritingDays
from obitus.store.migrations import open_for_writing

Result = TypeVar("Result")
Work = Callable[[sqlite3.Connection], Any]

_log = logging.getLogger("obitus.store")

MOST_WAITING: Final = 512
MOST_IN_ONE_COMMIT: Final = 64
LONGEST_COMMIT_S: Final = 0.02
"""How long work is added to a commit, which bounds the waiting time of the first."""


@dataclass
class _Job:
    work: Work
    future: Future[Any] = field(default_factory=Future)
    result: Any = None
    error: BaseException | None = None


class Writer:
    """Owns the write connection. Start it once for a file; ``close`` finishes what was queued."""

    def __init__(self, path: Path, *, most_waiting: int = MOST_WAITING) -> None:
        self.path = path
        self._connection = open_for_writing(path)
        self._connection.execute(NO_FILES_ASIDE)
        with our_errors(path):
            self.days = WritingDays(folder_beside(path), self._connection)
        """The day files. Submitted work may use them like the connection that it gets."""
        self._file = file_identity(path)
        self._queue: queue.Queue[_Job | None] = queue.Queue(maxsize=most_waiting)
        self._closed = False
        self.reached: Callable[[str], None] = _pass_on
        """Called between two commits of files that belong together; tests interrupt there."""
        self.committed: Callable[[], object] = _nothing
        """Called after each commit, on the writer's thread: it must only wake another thread."""
        self._changed: set[Callable[[], object]] = set()
        """What is to be called after the present commit."""
        self.trouble: errors.StoreTrouble | None = None
        """Why the latest commit failed, where the file was the reason."""
        self._thread = threading.Thread(target=self._serve, name="obitus-writer", daemon=True)
        self._thread.start()

    @property
    def alive(self) -> bool:
        """Whether the writer accepts work."""
        return self._thread.is_alive() and not self._closed

    @property
    def waiting(self) -> int:
        """The number of pieces of work that wait for their commit."""
        return self._queue.qsize()

    def submit(self, work: Callable[[sqlite3.Connection], Result]) -> Future[Result]:
        """Queue ``work``; raises StoreBusy at once when the queue is full, so that callers never pile up."""
        if self._closed:
            raise errors.StoreBusy("the service is stopping; send again")
        job = _Job(work)
        try:
            self._queue.put_nowait(job)
        except queue.Full:
            raise errors.StoreBusy("the writer's queue is full; send again in a moment") from None
        return cast("Future[Result]", job.future)

    def run(self, work: Callable[[sqlite3.Connection], Result], timeout_s: float = 60) -> Result:
        """Queue ``work`` and wait until it is committed."""
        return self.submit(work).result(timeout_s)

    def call_after(self, triggers: Sequence[str], name: str, act: Callable[[], object]) -> None:
        """Call ``act`` after each commit in which one of these triggers ran, before the futures of its work are done, on the
        writer's thread. ``triggers`` make temporary triggers, which call the function of this name. Work that was taken back
        has ``act`` called, too.
        """

        def begin(connection: sqlite3.Connection) -> None:
            connection.create_function(name, 0, lambda: self._changed.add(act))
            for trigger in triggers:
                connection.execute(trigger)

        self.run(begin)

    def close(self) -> None:
        """Finish queued work, then close the file."""
        if not self._closed:
            self._closed = True
            self._queue.put(None)
            self._thread.join()
            self.days.close()
            let_go(self._connection, self.path)

    def _serve(self) -> None:
        while (job := self._queue.get()) is not None:
            if not self._commit(job):
                break

    def _next(self, began_s: float, count: int) -> _Job | Literal[False] | None:
        """Return the next work for the present commit, None at the end of all work, False when it is time to commit."""
        if count >= MOST_IN_ONE_COMMIT or self.days.is_full or time.monotonic() - began_s > LONGEST_COMMIT_S:
            return False
        try:
            return self._queue.get_nowait()
        except queue.Empty:
            return False

    def _commit(self, first: _Job) -> bool:
        """Do work until it is time to commit, and commit; return whether more may come."""
        jobs = [first]
        more: _Job | Literal[False] | None = False
        failed: BaseException | None = None
        began_s = time.monotonic()
        try:
            if file_identity(self.path) != self._file:
                raise errors.StoreReadOnly(
                    f"{self.path}: the file was moved away or replaced; nothing was taken. Bring it back, or start again."
                )
            with our_errors(self.path):
                self._connection.execute("BEGIN IMMEDIATE")
                self._do_first(first)
                while more := self._next(began_s, len(jobs)):
                    jobs.append(more)
                    self._do(more)
                self.days.commit(self.reached)
                self._connection.execute("COMMIT")
                self.reached("after the main file")
            self.days.done()
            self.trouble = None
            while self._changed:
                self._changed.pop()()
        except BaseException as error:
            # Nothing of this commit is on disk, so nothing may be acknowledged.
            failed = error
            if isinstance(error, errors.StoreTrouble):
                self.trouble = error
            self._go_back()
        for job in jobs:
            error_of_job = failed or job.error
            if not job.future.set_running_or_notify_cancel():
                continue
            if error_of_job is not None:
                job.future.set_exception(error_of_job)
            else:
                job.future.set_result(job.result)
        # Callers that wait for the commit come first.
        if failed is None:
            self.committed()
        return more is not None

    def _go_back(self) -> None:
        self.days.give_up()
        try:
            if self._connection.in_transaction:
                self._connection.rollback()
            self.days.tidy()
        except sqlite3.Error as error:
            _log.error("a transaction could not be taken back (%s)", error)

    def _do_first(self, job: _Job) -> None:
        """Do the first work of a commit: rolling it back alone means beginning again, so it needs no savepoint, and
        most commits have no more work."""
        self.days.begin_first_job()
        if not self._succeeds(job):
            self._go_back()
            self._connection.execute("BEGIN IMMEDIATE")
        self.days.end_first_job()

    def _do(self, job: _Job) -> None:
        self._connection.execute("SAVEPOINT one_job")
        self.days.begin_job()
        succeeded = self._succeeds(job)
        if not succeeded:
            self._connection.execute("ROLLBACK TO one_job")
        self._connection.execute("RELEASE one_job")
        self.days.end_job(failed=not succeeded)

    def _succeeds(self, job: _Job) -> bool:
        """Do work; return whether it is to be kept. Raises errors that end the whole commit."""
        try:
            with our_errors(self.path):
                job.result = job.work(self._connection)
        except errors.StoreTrouble:
            raise
        except Exception as error:
            job.error = error
            if not self._connection.in_transaction:
                raise
            return False
        return True


def _nothing() -> None:
    """Nothing waits for commits."""


def _pass_on(_: str) -> None:
    """Go on."""
