"""Sending in the background: batches, retries, bounds. The app's threads only ever append to a queue.

The path of a report: the queue (as captured) → redacted and written as JSON → the spool on disk, or memory where
there is none → the service. Only what the service has acknowledged leaves the spool. The keeper's thread writes, the
poster's thread talks to the service: a slow service never keeps a report from the disk.

The app's threads take no lock here, since a signal handler or a finalizer may interrupt them and report too.
"""

from __future__ import annotations

import _queue
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

from obitus.client import state
from obitus.client.backlog import Backlog
from obitus.client.delivery import LONGEST_WAIT_S, TIMEOUT_S, Delivery
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import Sayings, is_ours
from obitus.client.native import Signals, Worker, is_finalizing, monotonic, sleep
from obitus.client.posting import CannotConnect
from obitus.client.settings import Settings
from obitus.core.redaction import Redactor

MOST_WAITING: Final = 2000
TICK_S: Final = 0.5
GATHER_S: Final = 0.05
IDLE_S: Final = 5.0
CONNECT_AT_EXIT_S: Final = 0.2
FORK_WAIT_S: Final = 0.05


class Sender:
    """Sends reports to the service. Everything it holds is bounded; what does not fit is dropped and counted.

    On the keeper's thread ``tick`` is called about twice a second, ``settle`` before everything is to be sent,
    ``wrote`` after reports were written to disk. ``due`` does there what is due, and returns the seconds until the
    next work is due.
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
        on_answer: Callable[[dict[str, Any]], None] = lambda _: None,
    ) -> None:
        self._tick, self._settle, self._wrote, self._due = tick, settle, wrote, due
        self.sayings = Sayings()
        self.backlog = self._backlog_for(settings, redactor, family)
        self._delivery = Delivery(
            settings,
            redactor,
            self.sayings,
            says_time=says_time,
            on_answer=on_answer,
            drop=self.drop,
            counted=self._counted,
            is_on_disk=lambda: self.backlog.is_on_disk,
            is_leaving=lambda: self._leaving,
        )
        self._waiting: deque[dict[str, Any]] = deque()
        self._keeper = Worker("obitus-client-keeper", self._keep)
        self._poster = Worker("obitus-client-sender", self._post_all)
        self._tickets: deque[_Ticket] = deque()
        self._asked: deque[_Ticket] = deque()
        self._hurry = False
        self._backing_off = False
        self._stopping = False
        self._leaving = False
        self._was_awake = False
        self.sent = 0
        self.refused = 0
        self.dropped: dict[str, int] = {}
        self.sent_last_s: float | None = None

    def _backlog_for(self, settings: Settings, redactor: Redactor, family: str) -> Backlog:
        """Return the backlog, where encoded reports wait."""
        return Backlog(settings, redactor, self.sayings, self.drop, family)

    # What the app's threads call.

    @property
    def waiting(self) -> int:
        """The number of reports that wait to be sent, on disk and in memory."""
        return len(self._waiting) + self.backlog.waiting

    @property
    def spooled(self) -> tuple[int, int]:
        """How many reports wait on disk, and how many bytes they take."""
        return self.backlog.spooled

    @property
    def full(self) -> bool:
        """Whether there is no room for one more: then capturing is useless."""
        return len(self._waiting) >= MOST_WAITING or self._stopping

    @property
    def is_awake(self) -> bool:
        """Whether the keeper's thread runs."""
        return self._keeper.running

    def begin(self) -> None:
        """Open the spool; where earlier processes left something in it, start sending that."""
        if self.backlog.others_left_something():
            self._take_on()

    def _take_on(self) -> None:
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
        """Write a report to a file of its own on disk; queue it where that cannot be done.

        Return whether it was taken. Nothing here waits for another thread or takes a lock.
        """
        path = self.put_down(report)
        if path is None:
            # There is no room, or no spool: the report waits in memory.
            return report.get("dropped") is None and self.put(report)
        self.wake()
        return True

    def put_down(self, report: dict[str, Any], *, held: bool = False) -> Path | None:
        """Write a report to a file of its own in the spool, to be sent with the rest unless it is ``held``; None where that cannot be."""
        try:
            return self.backlog.put_down(report, held=held)
        except Exception:
            # An exception of the app, raised by a signal handler in the middle of it: the report waits.
            self._waiting.append(report)
            raise

    def let_go(self, path: Path, *, send: bool) -> None:
        """Send what was held in a file of its own, or remove it: something that says more is sent in its place."""
        self.backlog.let_go(path, send=send)

    def wake(self) -> None:
        """Wake the keeper's thread; start it where it does not run."""
        if self._leaving:
            return
        if not self._keeper.running:
            self._keeper.start()
        self._keeper.wake()

    def drop(self, why: str, count: int = 1) -> None:
        """Count dropped reports. Takes no lock: a dropped report must cost nothing."""
        dropped = self.dropped
        dropped[why] = dropped[why] + count if why in dropped else count

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything queued was sent or dropped; return whether it was."""
        if is_ours():
            return False
        ticket = _Ticket(monotonic() + timeout_s)
        self._asked.append(ticket)
        self.wake()
        if not self._keeper.running:
            # The interpreter starts no more threads: nothing would be sent.
            self.secure()
            return self.waiting == 0
        return ticket.wait()

    def secure(self, timeout_s: float = 1.0) -> None:
        """Write everything that is queued to the spool at once, on this thread: the process is about to end."""
        was_ours, state.ours.working = is_ours(), True
        try:
            self.backlog.write_down(self._waiting, timeout_s)
        except Exception as error:
            if is_the_apps(error):
                raise
            self.sayings.say("broken", f"Obitus: reports could not be written ({type(error).__name__}: {error}).")
        finally:
            state.ours.working = was_ours

    def leave(self, timeout_s: float, *, family: bool) -> None:
        """The process ends: write what waits to disk, and send this process's reports, where the service answers.
        ``timeout_s`` is the longest time for that; with nothing but healthy runs and their counts it takes none.
        ``family`` also sends the reports of its children.
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
            self.backlog.adopt_children()
        self._send_last(ends)

    def _send_last(self, ends: float) -> None:
        """Send those reports of this process that somebody should see before the next one runs."""
        if not self.backlog.is_urgent():
            return
        # The poster may be sending already.
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
        """Close the spool's files; the next process sends the reports in them."""
        self._stopping = self._leaving = True
        self._keeper.rest(0.2)
        self._poster.rest(0.05)
        self.backlog.close()
        if not self._poster.running:
            self._delivery.close()

    def hush(self) -> None:
        """Ask both threads to end, without waiting for that."""
        self._leaving = True
        self._keeper.rest(0.0)
        self._poster.rest(0.0)

    def tidy(self) -> None:
        """Leave nothing behind where nothing waits."""
        self.backlog.tidy()

    def abandon(self) -> None:
        """In a forked child: close the parent's files; this sender is never used again."""
        self.backlog.forget()
        self._delivery.forget()

    def pause(self) -> None:
        """Before a fork: pause both threads, so that the child inherits nothing half done."""
        ends = monotonic() + FORK_WAIT_S
        keeper, poster = self._keeper, self._poster
        self._was_awake = keeper.running
        if keeper.running:
            keeper.told_to_rest = True
        if poster.running:
            poster.rest(max(0.0, ends - monotonic()))
        keeper.rest(max(0.005, ends - monotonic()))

    def resume(self) -> None:
        """After a fork, in the parent: start the threads again."""
        if self._was_awake or self.waiting or self._asked or self._tickets:
            self.wake()

    # The keeper's thread.

    def _keep(self) -> None:
        keeper = self._keeper
        next_tick_s = monotonic() + TICK_S
        due_in_s = 0.0
        while not keeper.told_to_rest:
            keeper.wait(max(0.0, min(due_in_s, next_tick_s - monotonic())), self._has_writing)
            tickets = [self._asked.popleft() for _ in range(len(self._asked))]
            try:
                if tickets:
                    self._settle()
                due_in_s = self._due()
                wrote = bool(self._waiting)
                self.backlog.write_down(self._waiting)
                if wrote:
                    self._wrote()
                if monotonic() >= next_tick_s:
                    self._tick()
                    self.backlog.look_for_others()
                    next_tick_s = monotonic() + TICK_S
            except Exception as error:
                self.sayings.say(
                    "keeping", f"Obitus: housekeeping failed ({type(error).__name__}: {error}); it goes on."
                )
                sleep(0.05)
            if tickets:
                self._tickets.extend(tickets)
                self._hurry = True
            if self._wants_poster():
                self._poster.start()
            if not self._backing_off or self._hurry:
                self._poster.wake()

    def _wants_poster(self) -> bool:
        return bool(self._tickets or (self.waiting and not self._poster.running))

    def _has_writing(self) -> bool:
        return bool(self._waiting or self._asked or self.backlog.expects_some)

    # The poster's thread.

    def _post_all(self) -> None:
        poster = self._poster
        failures = 0
        idle_since_s = monotonic()
        self.backlog.adopt()
        while not poster.told_to_rest:
            try:
                batch = self.backlog.next_batch()
                if not batch.lines:
                    self._answer(sent=True)
                    if monotonic() - idle_since_s > IDLE_S:
                        return
                    poster.wait(IDLE_S, self._has_posting)
                    if self.waiting and not self._hurry and not poster.told_to_rest:
                        # It is on disk: there is time to gather more.
                        poster.wait(GATHER_S, lambda: self._hurry)
                    continue
                self.backlog.adopt_if_long_ago()
                done, wait_s = self._post(batch.lines, failures, TIMEOUT_S, TIMEOUT_S)
                self.backlog.done(batch, done)
            except Exception as error:
                wait_s = LONGEST_WAIT_S
                self.sayings.say("broken", f"Obitus: sending failed ({type(error).__name__}: {error}); it goes on.")
            failures = failures + 1 if wait_s else 0
            idle_since_s = monotonic()
            if wait_s:
                self._wait_to_retry(wait_s)

    def _has_posting(self) -> bool:
        return bool(self._tickets or self.backlog.waiting)

    def _wait_to_retry(self, wait_s: float) -> None:
        """Wait before the next try. Somebody who waits for all to be sent shortens it."""
        ends = monotonic() + wait_s
        self._backing_off = True
        while (left_s := ends - monotonic()) > 0 and not self._poster.told_to_rest:
            self._answer(sent=False)
            if self._hurry:
                self._poster.wait(min(left_s, 0.1), lambda: False)
                break
            self._poster.wait(left_s, lambda: self._tickets)
        self._backing_off = False

    def _answer(self, *, sent: bool) -> None:
        """Wake waiting callers because all was sent, or their time is up."""
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

    def _post(
        self, lines: list[bytes], failures: int, connect_s: float, whole_s: float, *, at_the_end: bool = False
    ) -> tuple[int, float]:
        """Deliver a batch; return how many of its lines are done, and how long to wait."""
        return self._delivery.post(lines, failures, connect_s, whole_s, at_the_end=at_the_end)

    def _counted(self, taken: int, refused: int) -> None:
        self.sent += taken
        self.refused += refused
        self.sent_last_s = time.time()

    # The end of the process.

    def _hand_over(self, ends: float) -> None:
        """Send the reports of this process, on its last thread; stop where no service answers. Logs nothing: all is on disk."""
        while (left := ends - monotonic()) > 0:
            batch = self.backlog.next_batch(own=True)
            if not batch.lines:
                return
            try:
                done, wait_s = self._delivery.post_quietly(batch.lines, CONNECT_AT_EXIT_S, left)
            except CannotConnect:
                return
            self.backlog.done(batch, done)
            if wait_s or done < len(batch.lines):
                if wait_s > ends - monotonic():
                    return
                sleep(wait_s)


class _Ticket:
    """A caller that waits until all was sent."""

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
