"""Encoded reports that are not delivered yet: in the spool on disk, or in memory where there is no spool.

A lock guards them between the threads of a sender. The thread that ends the process takes it too, with a time limit.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

from obitus.client import state
from obitus.client.encoding import Encoder
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import Sayings, is_ours
from obitus.client.native import allocate_lock, monotonic
from obitus.client.second_destination import AlsoFile
from obitus.client.settings import Settings
from obitus.client.spool import Batch, Spool
from obitus.core.redaction import Redactor

MOST_MEMORY_BYTES: Final = 16 * 1024 * 1024
BATCH_REPORTS: Final = 50
BATCH_BYTES: Final = 1_000_000
MOST_LOOKED_AT: Final = 2000
"""Reports that are looked at to find whether one of them is urgent."""
ADOPT_EVERY_S: Final = 60.0
ADOPT_CHANGED_EVERY_S: Final = 1.0


class Backlog:
    """What one process has to deliver. It is bounded: ``drop`` counts reports that do not fit, by reason. ``wrote``
    is called with the number of reports written to the second file (``also``).
    """

    def __init__(
        self,
        settings: Settings,
        redactor: Redactor,
        sayings: Sayings,
        drop: Callable[..., None],
        family: str,
        wrote: Callable[[int], None] = lambda _: None,
    ) -> None:
        self._settings = settings
        self._sayings = sayings
        self._drop = drop
        self._family = family
        self._wrote = wrote
        self._encoder = Encoder(settings, redactor, drop, sayings)
        self._also = AlsoFile(settings.also, drop) if settings.also is not None else None
        self._memory: deque[bytes] = deque()
        self.memory_bytes = 0
        self._being_written = 0
        self._spools: dict[str, Spool | None] = {}
        self._lock = allocate_lock()
        self._adopted_s = 0.0

    # Without the lock: for the app's threads, signal handlers and finalizers.

    @property
    def waiting(self) -> int:
        """How many reports wait, those included that are being written."""
        spool = self._opened
        return self._being_written + len(self._memory) + (spool.waiting if spool is not None else 0)

    @property
    def spooled(self) -> tuple[int, int]:
        """The number of those on disk, and their bytes."""
        spool = self._opened
        return (spool.waiting, spool.waiting_bytes) if spool is not None else (0, 0)

    @property
    def is_on_disk(self) -> bool:
        """Whether waiting reports outlive this process."""
        return self._opened is not None

    @property
    def expects_some(self) -> bool:
        """Whether there are reports in files of their own that were not taken in yet."""
        spool = self._opened
        return spool is not None and bool(spool.expected)

    @property
    def _opened(self) -> Spool | None:
        """The spool, where it is open already."""
        return self._spools.get("spool")

    def spool(self) -> Spool | None:
        """Return the spool, opened at the first call; None where there is none or it cannot be used."""
        try:
            return self._spools["spool"]
        except KeyError:
            pass
        folder = self._settings.spool_of_address
        opened = None
        if folder is not None:
            try:
                opened = Spool(
                    folder,
                    most_bytes=self._settings.spool_bytes,
                    most_age_s=self._settings.spool_hours * 3600,
                    dropped=self._drop,
                    family=self._family,
                )
            except OSError as error:
                if is_the_apps(error):
                    raise
                self._sayings.say(
                    "spool",
                    f"Obitus: {folder} cannot be used ({error}), so reports wait in memory only. "
                    "Set OBITUS_SPOOL to a folder that this process may write to.",
                )
        return self._spools.setdefault("spool", opened)

    def others_left_something(self) -> bool:
        """Whether earlier processes left something in the spool, which this opens."""
        spool = self.spool()
        return spool is not None and spool.others_left_something()

    def line(self, report: dict[str, Any]) -> bytes | None:
        """Return a report as it goes out; None where it is dropped, which is counted."""
        return self._encoder.line(report)

    def write_also(self, lines: list[bytes]) -> bool:
        """Write lines to the second file, where there is one; return whether they were written. Never raises for errors of the disk."""
        if self._also is None or not lines:
            return False
        try:
            self._also.write(lines)
        except OSError as error:
            if is_the_apps(error):
                raise
            self._sayings.say("also", f"Obitus: {self._also.path} cannot be written ({error}). Free some space there.")
            return False
        self._wrote(len(lines))
        return True

    def put_down(self, report: dict[str, Any], *, held: bool = False) -> Path | None:
        """Write a report to a file of its own in the spool, to be sent with the rest unless it is ``held``; None where there is no room.

        Raises what the app raises meanwhile, for example in a signal handler.
        """
        spool = self.spool()
        if spool is None:
            return None
        was_ours, state.ours.working = is_ours(), True
        try:
            line = self.line(report)
            if line is None:
                report["dropped"] = True
                return None
            path = spool.put_down(line, held=held)
            if not held:
                self.write_also([line])
                spool.expect(path, line)
            return path
        except Exception as error:
            if is_the_apps(error):
                raise
            return None
        finally:
            state.ours.working = was_ours

    def let_go(self, path: Path, *, send: bool) -> None:
        """Send a report held in a file of its own, or remove it because a more complete one is sent in its place."""
        spool = self._opened
        if spool is None:
            return
        if not send:
            path.unlink(missing_ok=True)
        else:
            try:
                self._release(spool, path)
            except OSError:
                return
        spool.held.discard(path)

    def _release(self, spool: Spool, path: Path) -> None:
        """Send a report held in a file of its own. Raises OSError."""
        for line in spool.line_in(path):
            self.write_also([line])
            spool.expect(spool.let_go(path), line)

    # With the lock.

    def write_down(self, queue: deque[dict[str, Any]], timeout_s: float = -1) -> None:
        """Write the reports that are in a queue at this moment to the spool or to memory."""
        if not self._lock.acquire(True, timeout_s):
            return
        try:
            spool = self.spool()
            if spool is not None and spool.expected:
                try:
                    spool.take_in()
                except OSError as error:
                    self._say_full(spool, error)
            remaining = len(queue)
            while remaining > 0:
                lines: list[bytes] = []
                size = 0
                while remaining > 0 and len(lines) < BATCH_REPORTS and size < BATCH_BYTES:
                    remaining -= 1
                    self._being_written += 1
                    try:
                        report = queue.popleft()
                    except IndexError:
                        remaining = 0
                        break
                    line = self.line(report)
                    if line is not None:
                        lines.append(line)
                        size += len(line)
                if lines:
                    self.hold(lines)
                self._being_written = 0
        finally:
            self._being_written = 0
            self._lock.release()

    def hold(self, lines: list[bytes]) -> None:
        """Keep encoded lines until they are delivered. The caller has the lock."""
        self.write_also(lines)
        spool = self._opened
        if spool is not None:
            try:
                spool.append(lines)
            except OSError as error:
                self._say_full(spool, error)
            else:
                return
        for line in lines:
            if self.memory_bytes + len(line) > MOST_MEMORY_BYTES:
                self._drop("memory is full")
                continue
            self._memory.append(line)
            self.memory_bytes += len(line)

    def _say_full(self, spool: Spool, error: OSError) -> None:
        warning = f"Obitus: {spool.folder} cannot be written ({error}); reports wait in memory. Free some space there."
        self._sayings.say("spool-write", warning)

    def look_for_others(self) -> None:
        """Take over what ended processes left, where the folder has changed since the last look; limited in frequency."""
        spool = self._opened
        if spool is None or monotonic() - self._adopted_s < ADOPT_CHANGED_EVERY_S or not spool.was_changed():
            return
        self.adopt()

    def adopt_if_long_ago(self) -> None:
        """Take over what ended processes left, at most once a minute."""
        if monotonic() - self._adopted_s > ADOPT_EVERY_S:
            self.adopt()

    def adopt(self) -> None:
        """Take over what processes that are gone left."""
        spool = self._opened
        if spool is not None:
            with self._lock:
                self._adopted_s = monotonic()
                self._adopt(spool)

    def adopt_children(self) -> None:
        """Take over what this process's own children left."""
        self._with_spool(lambda spool: self._adopt(spool, self._family))

    def _adopt(self, spool: Spool, family: str | None = None) -> None:
        """Take over what ended processes left; reports that they held back when they were killed still have to be
        added to the second file."""
        spool.adopt(family, was_held=self.write_also)

    def next_batch(self, *, own: bool = False) -> Batch:
        """Return what is to be delivered next; with ``own`` only what this process made."""
        with self._lock:
            spool = self._opened
            if spool is not None:
                batch = spool.peek(BATCH_REPORTS, BATCH_BYTES, own=own)
                if not batch.lines and spool.leaves_more and not own:
                    self._adopt(spool)
                    batch = spool.peek(BATCH_REPORTS, BATCH_BYTES)
                if batch.lines:
                    return batch
            lines: list[bytes] = []
            size = 0
            for line in self._memory:
                if lines and (len(lines) >= BATCH_REPORTS or size + len(line) > BATCH_BYTES):
                    break
                lines.append(line)
                size += len(line)
            return Batch(lines, [])

    def done(self, batch: Batch, done: int) -> None:
        """Remove the first ``count`` reports of a batch, which are delivered or refused."""
        with self._lock:
            spool = self._opened
            if batch.places and spool is not None:
                # Part of a batch that went through is sent again with the rest: its ids make that harmless.
                if done == len(batch.lines):
                    spool.done(batch)
            else:
                for _ in range(done):
                    self.memory_bytes -= len(self._memory.popleft())

    def is_urgent(self) -> bool:
        """Whether a report waits that somebody should see before the next process of this app runs."""
        with self._lock:
            spool = self._opened
            lines = list(self._memory)
            if spool is not None:
                lines += spool.peek(MOST_LOOKED_AT, 8 * BATCH_BYTES, own=True).lines
            return any(not _can_wait(line) for line in lines)

    def tidy(self) -> None:
        """Leave nothing behind where nothing waits."""
        self._with_spool(lambda spool: spool.tidy())

    def close(self) -> None:
        """Close the spool's files; the next process sends the reports in them."""
        self._with_spool(lambda spool: spool.close())

    def forget(self) -> None:
        """In a forked child: close the parent's files."""
        spool = self._opened
        if spool is not None:
            spool.forget()

    def _with_spool(self, act: Callable[[Spool], Any]) -> None:
        """Do something with the spool, unless one of the threads holds it for long."""
        spool = self._opened
        if spool is None or not self._lock.acquire(True, 0.5):
            return
        try:
            act(spool)
        except OSError as error:
            if is_the_apps(error):
                raise
        finally:
            self._lock.release()


def _can_wait(line: bytes) -> bool:
    """Whether a report is only of healthy runs."""
    return line.startswith((b'{"kind": "tally"', b'{"kind": "run"')) and b'"outcome": "ok"' in line
