"""Sending in the background: batches, retries, bounds. The app's threads only ever append to a queue.

A report's way: the queue (as captured) → written as JSON and redacted → the spool on disk, or memory where there is
none → the service. Only what the service has acknowledged leaves the spool. The keeper's thread writes, the poster's
thread talks to the service: what is slow to answer never keeps a report from the disk.

Locks: the app's threads take none here, since a signal handler or a finalizer may come in between and report too.
``_holding`` guards the spool between the two threads; at the end of the process, when both rest, whoever ends it takes
it too, and never waits for it without a limit.
"""

from __future__ import annotations

import _queue
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

from obitus.client import state
from obitus.client.also import AlsoFile
from obitus.client.delivery import LONGEST_WAIT_S, TIMEOUT_S, Delivery
from obitus.client.encoding import Encoder
from obitus.client.log import Sayings, is_ours
from obitus.client.native import Signals, Worker, allocate_lock, is_finalizing, monotonic, sleep
from obitus.client.posting import CannotConnect
from obitus.client.settings import Settings
from obitus.client.spool import Batch, Spool
from obitus.client.whose import is_the_apps
from obitus.core.redaction import Redactor

MOST_WAITING: Final = 2000
MOST_MEMORY_BYTES: Final = 16 * 1024 * 1024
BATCH_REPORTS: Final = 50
BATCH_BYTES: Final = 1_000_000
TICK_S: Final = 0.5
GATHER_S: Final = 0.05
IDLE_S: Final = 5.0
CONNECT_AT_EXIT_S: Final = 0.2
ADOPT_EVERY_S: Final = 60.0
ADOPT_CHANGED_EVERY_S: Final = 1.0
FORK_WAIT_S: Final = 0.05


class Sender:
    """Sends reports to the service. Everything it holds is bounded; what does not fit is dropped and counted.

    ``tick`` is called on the keeper's thread about twice a second, ``settle`` there before everything is to be sent,
    ``wrote`` after reports were written to the disk. ``due`` does there what is due, and returns in how many seconds
    something will be.
    """

    def __init__(
        self,
        settings: Settings,
        redactor: Redactor,
        *,
        says_time: bool = True,
        tick: Callable[[], None] = lambda: None,
        settle: Callable[[], None] = lambda: None,
        wrote: Callable[[], None] = lambda: None,
        due: Callable[[], float] = lambda: TICK_S,
        family: str = "",
        heard: Callable[[dict[str, Any]], None] = lambda _: None,
    ) -> None:
        self._settings = settings
        self._redactor = redactor
        self._tick, self._settle, self._wrote, self._due = tick, settle, wrote, due
        self._family = family
        self.sayings = Sayings()
        self._encoder = Encoder(settings, redactor, self.drop, self.sayings)
        self._also = AlsoFile(settings.also, self.drop) if settings.also is not None else None
        self._delivery = Delivery(
            settings,
            redactor,
            self.sayings,
            says_time=says_time,
            heard=heard,
            drop=self.drop,
            counted=self._counted,
            is_on_disk=lambda: self._spools.get("spool") is not None,
            is_leaving=lambda: self._leaving,
        )
        self._waiting: deque[dict[str, Any]] = deque()
        self._memory: deque[bytes] = deque()
        self._memory_bytes = 0
        self._spools: dict[str, Spool | None] = {}
        self._holding = allocate_lock()
        self._keeper = Worker("obitus-client-keeper", self._keep)
        self._poster = Worker("obitus-client-sender", self._post_all)
        self._tickets: deque[_Ticket] = deque()
        self._asked: deque[_Ticket] = deque()
        self._hurry = False
        self._backing_off = False
        self._adopted_s = 0.0
        self._stopping = False
        self._leaving = False
        self._was_awake = False
        self.sent = 0
        self.refused = 0
        self.dropped: dict[str, int] = {}
        self.sent_last_s: float | None = None

    # What the app's threads call.

    @property
    def waiting(self) -> int:
        """How many reports wait to be sent, wherever."""
        spool = self._spools.get("spool")
        return len(self._waiting) + len(self._memory) + (spool.waiting if spool is not None else 0)

    @property
    def spooled(self) -> tuple[int, int]:
        """How many reports wait on disk, and how many bytes they take."""
        spool = self._spools.get("spool")
        return (spool.waiting, spool.waiting_bytes) if spool is not None else (0, 0)

    @property
    def full(self) -> bool:
        """Whether there is no room for one more: then nothing need be captured."""
        return len(self._waiting) >= MOST_WAITING or self._stopping

    @property
    def is_awake(self) -> bool:
        """Whether the keeper's thread is there."""
        return self._keeper.running

    def begin(self) -> None:
        """Open the spool; where earlier processes left something in it, start sending that."""
        spool = self.spool()
        if spool is None or not spool.others_left_something():
            return
        self._take_on(spool)

    def _take_on(self, spool: Spool) -> None:
        """Begin with what earlier processes left."""
        self._poster.start()

    def put(self, report: dict[str, Any]) -> bool:
        """Queue a report; return whether there was room. Never waits, takes no lock."""
        if self.full:
            self.drop("the queue is full")
            return False
        self._waiting.append(report)
        self.wake()
        return True

    def keep(self, report: dict[str, Any]) -> bool:
        """Have a report on disk when this returns, in a file of its own; queue it where that cannot be done.

        Return whether it was taken. Nothing here waits for another thread or takes a lock.
        """
        path = self.put_down(report)
        if path is None:
            # It is out of room, or there is no spool: what can be encoded waits in memory.
            return report.get("dropped") is None and self.put(report)
        self.wake()
        return True

    def write_also(self, lines: list[bytes]) -> bool:
        """Write lines to the file beside the service, where there is one; return whether they are there.

        Never raises for what the disk does.
        """
        if self._also is None or not lines:
            return False
        try:
            self._also.write(lines)
        except OSError as error:
            if is_the_apps(error):
                raise
            self.sayings.say("also", f"Obitus: {self._also.path} takes no more ({error}). Free some space there.")
            return False
        return True

    def put_down(self, report: dict[str, Any], *, held: bool = False) -> Path | None:
        """Write a report to a file of its own in the spool, to be sent with the rest unless it is ``held``."""
        spool = self.spool()
        if spool is None:
            return None
        was_ours, state.ours.working = is_ours(), True
        try:
            line = self._encoder.line(report)
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
                self._waiting.append(report)
                raise
            return None
        finally:
            state.ours.working = was_ours

    def let_go(self, path: Path, *, send: bool) -> None:
        """Send what was held in a file of its own, or remove it: something that says more is sent in its place."""
        spool = self._spools.get("spool")
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
        """Send what was held in a file of its own. Raises OSError."""
        for line in spool.line_in(path):
            self.write_also([line])
            spool.expect(spool.let_go(path), line)

    def wake(self) -> None:
        """Let the keeper's thread look at what there is; start it where it is not there."""
        if self._leaving:
            return
        if not self._keeper.running:
            self._keeper.start()
        self._keeper.wake()

    def drop(self, why: str, count: int = 1) -> None:
        """Count reports that are not sent. Takes no lock: one that cannot be afforded must cost nothing."""
        dropped = self.dropped
        dropped[why] = dropped[why] + count if why in dropped else count

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything queued was sent or given up on; return whether it was."""
        if is_ours():
            return False
        ticket = _Ticket(monotonic() + timeout_s)
        self._asked.append(ticket)
        self.wake()
        if not self._keeper.running:
            # The interpreter takes no more threads: nobody would answer.
            self.secure()
            return self.waiting == 0
        return ticket.wait()

    def secure(self, timeout_s: float = 1.0) -> None:
        """Write everything that is queued to the spool at once, on this thread: the process is about to end."""
        was_ours, state.ours.working = is_ours(), True
        try:
            self._write_down(timeout_s)
        except Exception as error:
            if is_the_apps(error):
                raise
            self.sayings.say("broken", f"Obitus: reports could not be written ({type(error).__name__}: {error}).")
        finally:
            state.ours.working = was_ours

    def leave(self, timeout_s: float, *, family: bool) -> None:
        """The process ends: what waits is on disk; what this process made is sent, where the service answers.

        ``timeout_s`` is the longest time that a process with something to tell takes for it; with nothing but healthy
        runs and their counts it takes none. ``family`` also sends what its children left.
        """
        ends = monotonic() + timeout_s
        self._leaving = True
        self._keeper.rest(0.2)
        if not is_finalizing():
            self._settle()
        self.secure(min(0.5, max(0.05, timeout_s)))
        if timeout_s <= 0 or is_finalizing():
            self._poster.rest(0.05)
            return
        if family:
            self._with_spool(lambda spool: self._adopt(spool, self._family))
        self._send_last(ends)

    def _send_last(self, ends: float) -> None:
        """Send what this process made and somebody should see before the next one runs."""
        if not self._is_urgent():
            return
        # The poster may be at it already: then it need not be done twice.
        self._hurry = True
        self._poster.rest(max(0.0, ends - monotonic()))
        if self._poster.running:
            return
        was_ours, state.ours.working = is_ours(), True
        try:
            self._hand_over(ends)
        finally:
            state.ours.working = was_ours

    def close(self) -> None:
        """Let go of the spool's files; what waits in them is sent by the next process."""
        self._stopping = self._leaving = True
        self._keeper.rest(0.2)
        self._poster.rest(0.05)
        self._with_spool(lambda spool: spool.close())
        if not self._poster.running:
            self._delivery.close()

    def hush(self) -> None:
        """Let both threads end at the next point where they can, without waiting for that: nothing more is to be done."""
        self._leaving = True
        self._keeper.rest(0.0)
        self._poster.rest(0.0)

    def tidy(self) -> None:
        """Leave nothing behind where nothing waits."""
        self._with_spool(lambda spool: spool.tidy())

    def abandon(self) -> None:
        """In a forked child: let go of the parent's files; this sender is never used again."""
        spool = self._spools.get("spool")
        if spool is not None:
            spool.forget()
        self._delivery.forget()

    def pause(self) -> None:
        """Before a fork: let both threads come to rest, so that the child inherits nothing half done."""
        ends = monotonic() + FORK_WAIT_S
        keeper, poster = self._keeper, self._poster
        self._was_awake = keeper.running
        if keeper.running:
            keeper.told_to_rest = True
        if poster.running:
            poster.rest(max(0.0, ends - monotonic()))
        keeper.rest(max(0.005, ends - monotonic()))

    def resume(self) -> None:
        """After a fork, in the parent: go on with what was going on."""
        if self._was_awake or self.waiting or self._asked or self._tickets:
            self.wake()

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
                    dropped=self.drop,
                    family=self._family,
                )
            except OSError as error:
                if is_the_apps(error):
                    raise
                self.sayings.say(
                    "spool",
                    f"Obitus: {folder} cannot be used ({error}), so reports wait in memory only. "
                    "Set OBITUS_SPOOL to a folder that this process may write to.",
                )
        return self._spools.setdefault("spool", opened)

    # The keeper's thread.

    def _keep(self) -> None:
        keeper = self._keeper
        next_tick_s = monotonic() + TICK_S
        due_in_s = 0.0
        while not keeper.told_to_rest:
            keeper.wait(max(0.0, min(due_in_s, next_tick_s - monotonic())), self._has_writing)
            asked = [self._asked.popleft() for _ in range(len(self._asked))]
            try:
                if asked:
                    self._settle()
                due_in_s = self._due()
                wrote = bool(self._waiting)
                self._write_down()
                if wrote:
                    self._wrote()
                if monotonic() >= next_tick_s:
                    self._tick()
                    self._look_for_others()
                    next_tick_s = monotonic() + TICK_S
            except Exception as error:
                self.sayings.say(
                    "keeping", f"Obitus: housekeeping broke ({type(error).__name__}: {error}); it goes on."
                )
                sleep(0.05)
            if asked:
                self._tickets.extend(asked)
                self._hurry = True
            if self._wants_poster():
                self._poster.start()
            if not self._backing_off or self._hurry:
                self._poster.wake()

    def _wants_poster(self) -> bool:
        return bool(self._tickets or (self.waiting and not self._poster.running))

    def _has_writing(self) -> bool:
        spool = self._spools.get("spool")
        return bool(self._waiting or self._asked or (spool is not None and spool.expected))

    def _look_for_others(self) -> None:
        spool = self._spools.get("spool")
        if spool is None or monotonic() - self._adopted_s < ADOPT_CHANGED_EVERY_S or not spool.was_changed():
            return
        with self._holding:
            self._adopted_s = monotonic()
            self._adopt(spool)

    def _adopt(self, spool: Spool, family: str | None = None) -> None:
        """Take over what processes that are gone left; what they had held when they were killed is in no file yet."""
        spool.adopt(family, was_held=self.write_also)

    def _write_down(self, timeout_s: float = -1) -> None:
        """Write what waits in the queue, as far as it waited when this began, to the spool or to memory."""
        if not self._holding.acquire(True, timeout_s):
            return
        try:
            spool = self.spool()
            if spool is not None and spool.expected:
                try:
                    spool.take_in()
                except OSError as error:
                    self._say_full(spool, error)
            left = len(self._waiting)
            while left > 0:
                lines: list[bytes] = []
                size = 0
                while left > 0 and len(lines) < BATCH_REPORTS and size < BATCH_BYTES:
                    left -= 1
                    try:
                        report = self._waiting.popleft()
                    except IndexError:
                        left = 0
                        break
                    line = self._encoder.line(report)
                    if line is not None:
                        lines.append(line)
                        size += len(line)
                if lines:
                    self._hold(lines)
        finally:
            self._holding.release()

    def _hold(self, lines: list[bytes]) -> None:
        """Keep encoded lines until they are delivered."""
        self.write_also(lines)
        spool = self._spools.get("spool")
        if spool is not None:
            try:
                spool.append(lines)
            except OSError as error:
                self._say_full(spool, error)
            else:
                return
        for line in lines:
            if self._memory_bytes + len(line) > MOST_MEMORY_BYTES:
                self.drop("memory is full")
                continue
            self._memory.append(line)
            self._memory_bytes += len(line)

    def _say_full(self, spool: Spool, error: OSError) -> None:
        said = f"Obitus: {spool.folder} takes no more ({error}); reports wait in memory. Free some space there."
        self.sayings.say("spool-write", said)

    # The poster's thread.

    def _post_all(self) -> None:
        poster = self._poster
        failures = 0
        idle_since_s = monotonic()
        self._adopt_now()
        while not poster.told_to_rest:
            try:
                batch = self._next_batch()
                if not batch.lines:
                    self._answer(sent=True)
                    if monotonic() - idle_since_s > IDLE_S:
                        return
                    poster.wait(IDLE_S, self._has_posting)
                    if self.waiting and not self._hurry and not poster.told_to_rest:
                        # It is on disk: there is time to gather more.
                        poster.wait(GATHER_S, lambda: self._hurry)
                    continue
                if monotonic() - self._adopted_s > ADOPT_EVERY_S:
                    self._adopt_now()
                done, wait_s = self._post(batch.lines, failures, TIMEOUT_S, TIMEOUT_S)
                self._done(batch, done)
            except Exception as error:
                wait_s = LONGEST_WAIT_S
                self.sayings.say("broken", f"Obitus: sending broke ({type(error).__name__}: {error}); it goes on.")
            failures = failures + 1 if wait_s else 0
            idle_since_s = monotonic()
            if wait_s:
                self._wait_to_retry(wait_s)

    def _has_posting(self) -> bool:
        return bool(self._tickets or self._memory or (self._spools.get("spool") or _NOTHING).waiting)

    def _wait_to_retry(self, wait_s: float) -> None:
        """Wait before the next try. Somebody who waits for all to be sent shortens it."""
        ends = monotonic() + wait_s
        self._backing_off = True
        while (left := ends - monotonic()) > 0 and not self._poster.told_to_rest:
            self._answer(sent=False)
            if self._hurry:
                self._poster.wait(min(left, 0.1), lambda: False)
                break
            self._poster.wait(left, lambda: self._tickets)
        self._backing_off = False

    def _answer(self, *, sent: bool) -> None:
        """Tell those who wait that all was sent, or that their time is up."""
        for _ in range(len(self._tickets)):
            ticket = self._tickets.popleft()
            if sent and (self._waiting or self.waiting):
                # Something came in meanwhile.
                self._tickets.append(ticket)
            elif sent:
                ticket.answer(True)
            elif not ticket.expired:
                self._tickets.append(ticket)
        self._hurry = bool(self._tickets)

    def _adopt_now(self) -> None:
        spool = self._spools.get("spool")
        if spool is not None:
            with self._holding:
                self._adopted_s = monotonic()
                self._adopt(spool)

    def _next_batch(self, *, own: bool = False) -> Batch:
        with self._holding:
            spool = self._spools.get("spool")
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

    def _done(self, batch: Batch, done: int) -> None:
        with self._holding:
            spool = self._spools.get("spool")
            if batch.places and spool is not None:
                # Part of a batch that went through is sent again with the rest: its ids make that harmless.
                if done == len(batch.lines):
                    spool.done(batch)
            else:
                for _ in range(done):
                    self._memory_bytes -= len(self._memory.popleft())

    def _post(
        self, lines: list[bytes], failures: int, connect_s: float, whole_s: float, *, at_the_end: bool = False
    ) -> tuple[int, float]:
        """Deliver a batch; return how many of its lines are done with, and how long to wait."""
        return self._delivery.post(lines, failures, connect_s, whole_s, at_the_end=at_the_end)

    def _counted(self, taken: int, refused: int) -> None:
        self.sent += taken
        self.refused += refused
        self.sent_last_s = time.time()

    # The end of the process.

    def _is_urgent(self) -> bool:
        """Whether something waits that somebody should see before the next process of this app runs."""
        with self._holding:
            spool = self._spools.get("spool")
            lines = list(self._memory)
            if spool is not None:
                lines += spool.peek(MOST_WAITING, 8 * BATCH_BYTES, own=True).lines
            return any(not _can_wait(line) for line in lines)

    def _hand_over(self, ends: float) -> None:
        """Send what this process made, on its last thread; leave where nobody answers. Says nothing: all is on disk."""
        while (left := ends - monotonic()) > 0:
            batch = self._next_batch(own=True)
            if not batch.lines:
                return
            try:
                done, wait_s = self._delivery.post_quietly(batch.lines, CONNECT_AT_EXIT_S, left)
            except CannotConnect:
                return
            self._done(batch, done)
            if wait_s or done < len(batch.lines):
                if wait_s > ends - monotonic():
                    return
                sleep(wait_s)

    def _with_spool(self, act: Callable[[Spool], Any]) -> None:
        """Do something with the spool, unless one of the threads holds it for long."""
        spool = self._spools.get("spool")
        if spool is None or not self._holding.acquire(True, 0.5):
            return
        try:
            act(spool)
        except OSError as error:
            if is_the_apps(error):
                raise
        finally:
            self._holding.release()


class _Ticket:
    """Somebody who waits until all was sent."""

    def __init__(self, until_s: float) -> None:
        self._until_s = until_s
        self._answers: _queue.SimpleQueue[bool] = Signals()

    @property
    def expired(self) -> bool:
        return monotonic() > self._until_s

    def answer(self, sent: bool) -> None:
        self._answers.put(sent)

    def wait(self) -> bool:
        try:
            return self._answers.get(True, max(0.0, self._until_s - monotonic()))
        except _queue.Empty:
            return False


class _Nothing:
    waiting = 0


_NOTHING: Final = _Nothing()


def _can_wait(line: bytes) -> bool:
    """Whether a report tells of nothing but what went well."""
    return line.startswith((b'{"kind": "tally"', b'{"kind": "run"')) and b'"outcome": "ok"' in line
