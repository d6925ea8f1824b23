"""The life of the reporting process: hooks, periodic work, forks, its end, and what ended processes left behind."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING, Any, Final

from obitus.client.base import Base
from obitus.client.failures import Failures
from obitus.client.forks import watch_forks
from obitus.client.guard import guarded
from obitus.client.held_failures import LONGEST_OUTSIDE_S, Held
from obitus.client.hooks import Hooks, Install
from obitus.client.left_behind import LeftBehind
from obitus.client.limits import Limits
from obitus.client.lost_children import LostChildren
from obitus.client.open_runs import OpenRuns
from obitus.client.sender import Sender
from obitus.client.sender_to_file import FileSender

if TYPE_CHECKING:
    from obitus.client.tracepoints.within import Tracepoints

TALLY_EVERY_TICKS: Final = 20
ALIKE_EVERY_TICKS: Final = 8
STORY_EVERY_S: Final = 0.1
DROPPED_EVERY_TICKS: Final = 120


class ProcessLife:
    """One process, from when it begins to report until it ends. No method of it ever raises into the app."""

    def __init__(
        self,
        base: Base,
        limits: Limits,
        open_runs: OpenRuns,
        failures: Failures,
        *,
        tracepoints: Tracepoints | None,
        install: Install | None,
        says_time: bool,
        keeps: bool,
        is_child: bool,
    ) -> None:
        self._base, self._limits, self._runs, self._failures = base, limits, open_runs, failures
        self._says_time, self._keeps = says_time, keeps
        self._tracepoints = tracepoints
        self._stories = install is not None and base.settings.spool is not None
        # The process that called watch(), where this one is a child of it.
        self._parent = os.getppid() if is_child else 0
        self._has_children = False
        self._begin()
        self._hooks: Hooks | None = None
        if install is not None:
            self._hooks = Hooks(base.settings, failures, open_runs, base.log_orders, self, install)
            self._hooks.install()
        watch_forks(self)
        if self._stories:
            self._left_behind.begin()
            base.sender.begin()
        if tracepoints is not None:
            base.sender.wake()

    def _begin(self) -> None:
        """Make what belongs to one process alone."""
        base = self._base
        kind = FileSender if base.settings.only_file else Sender
        base.sender = kind(
            base.settings,
            base.redactor,
            says_time=self._says_time,
            tick=self._tick if self._keeps else _nothing,
            due=self._release_due if self._keeps else lambda: LONGEST_OUTSIDE_S,
            settle=self._settle,
            wrote=self._keep_story if self._keeps else _nothing,
            family=base.family,
            on_answer=self._on_answer,
        )
        base.held = Held(base.sender, base.timer)
        self._limits.begin()
        self._failures.alike.begin()
        self._runs.begin()
        self._ticks = 0
        self._story_s = 0.0
        self.lost_children = LostChildren(base, self._runs, self._failures)
        self._left_behind = LeftBehind(
            base, self._runs, self._failures.alike, self.lost_children, is_child=self.is_child
        )

    @property
    def is_child(self) -> bool:
        """Whether this is a child of a process that watches."""
        return bool(self._parent)

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything was sent; return whether it was."""
        return self._base.sender.flush(timeout_s)

    def secure(self) -> None:
        """Write everything that was captured to disk."""
        self._base.held.release()
        self._base.sender.secure(0.5)

    def _on_answer(self, answer: dict[str, Any]) -> None:
        """Take what an answer of the service has in addition to the verdicts."""
        self._base.log_orders.learn_from(answer)
        if self._tracepoints is not None:
            self._tracepoints.learn_from(answer)

    def stop(self, timeout_s: float) -> None:
        """Remove the hooks, send what is queued, and end."""
        if self._tracepoints is not None:
            self._tracepoints.end()
        if self._hooks is not None:
            self._hooks.remove()
        self._base.held.release()
        self._failures.alike.send()
        self._limits.report_dropped()
        sender = self._base.sender
        sender.flush(timeout_s)
        sender.secure(0.5)
        sender.close()
        self._left_behind.end()

    def last_words(self) -> None:
        """The interpreter ends: send this process's reports. Exceptions of other exit handlers are still reported. A
        child whose parent watches leaves its reports on disk for the parent, and does not wait.
        """
        if self._left_behind.left:
            return
        base = self._base
        base.ending = True
        if self._hooks is not None:
            self._hooks.see_the_end()
        leaves_to_parent = self.is_child and os.getppid() == self._parent
        base.exit_until_s = time.monotonic() + (0.0 if leaves_to_parent else base.settings.exit_s)
        base.sender.leave(base.exit_s(), family=self._has_children)
        base.sender.tidy()
        self._left_behind.end()

    @guarded
    def before_hard_exit(self) -> None:
        """The process ends without exit handlers, by ``os._exit`` or ``os.exec…``: write everything to disk."""
        if self._left_behind.left:
            return
        self._settle()
        if self._base.sender.waiting:
            self._base.sender.secure(0.2)
        self._left_behind.end()

    @guarded
    def begin_again(self) -> None:
        """``os.exec…`` failed: continue."""
        if self._stories:
            self._left_behind.begin()

    @guarded
    def give_up_crashes(self) -> None:
        """The app handles crashes of the interpreter itself."""
        self._left_behind.give_up_crashes()

    @guarded
    def leave_to_parent(self) -> None:
        """The parent ends this process and knows why: it reports the open runs. This process does nothing more:
        parents that end their children by a signal kill them a tenth of a second later, whatever lock they hold at
        that moment.
        """
        if self.is_child:
            self._left_behind.leave()
            self._base.sender.hush()

    @guarded
    def started_a_child(self) -> None:
        """A child process was started, which passes its reports on by the spool."""
        self._has_children = True
        self._base.sender.wake()

    def before_fork(self) -> None:
        """Pause before a fork."""
        self._base.sender.pause()

    def after_fork(self, *, rests: bool) -> None:
        """In the parent: continue, unless there is nothing to do."""
        self._has_children = True
        if not rests:
            self._base.sender.resume()

    def begin_in_child(self) -> None:
        """A forked child has dead threads and perhaps held locks: it gets new ones of everything."""
        self._base.sender.abandon()
        self._left_behind.forget()
        self._base.held.abandon()
        self._parent = os.getppid()
        self._has_children = False
        self._begin()
        # Nothing more yet: most children that only start another program never report anything.
        self._base.begin_in_child()
        if self._tracepoints is not None:
            self._tracepoints.begin_in_child()
            self._base.sender.wake()

    def _settle(self) -> None:
        """Queue failures that are kept back, counts, and the numbers of dropped reports."""
        self._base.held.release()
        self._runs.send_tallies()
        self._failures.alike.send()
        self._limits.report_dropped()

    def _keep_story(self) -> None:
        """Reports were written to disk: write the counts that belong to them, too."""
        now_s = time.monotonic()
        left = self._left_behind
        if left.begun and (now_s - self._story_s > STORY_EVERY_S or left.is_outdated()):
            self._story_s = now_s
            left.keep()

    def _tick(self) -> None:
        """On the keeper's thread, about twice a second."""
        self._ticks += 1
        if self._tracepoints is not None:
            self._tracepoints.turn(tick=True)
        self._base.held.write()
        if self._ticks % TALLY_EVERY_TICKS == 0:
            self._runs.send_tallies()
        if self._ticks % ALIKE_EVERY_TICKS == 0:
            self._failures.alike.send()
        # The first are reported at once: somebody may be setting this up, and wonder where the reports are.
        if self._ticks % DROPPED_EVERY_TICKS == 0 or (self._base.sender.dropped and not self._limits.has_reported):
            self._limits.report_dropped()
        if self._hooks is not None:
            self._hooks.stand_in_front()
        if self._stories and not self._left_behind.begun:
            self._left_behind.begin()
        self._left_behind.keep()
        if self.lost_children.waiting:
            self._left_behind.look_for_children()
            self.lost_children.give_up()

    def _release_due(self) -> float:
        """Send failures that were kept back for long enough; return in how many seconds the next one is due."""
        if self._tracepoints is not None:
            self._tracepoints.turn(tick=False)
        failures, timer = self._base.held, self._base.timer
        soonest_s = failures.soonest_s
        if soonest_s is None:
            return LONGEST_OUTSIDE_S
        if soonest_s <= timer():
            failures.release(due=True)
            soonest_s = failures.soonest_s
        return LONGEST_OUTSIDE_S if soonest_s is None else max(0.001, soonest_s - timer())


def _nothing() -> None:
    pass
