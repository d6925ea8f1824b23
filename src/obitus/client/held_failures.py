"""Failures that were caught, kept back for a moment: the code that logs or records an exception may be ended by it
just after. If the same failure turns out to be unhandled, it is reported as that. Meanwhile it is in a file of its
own on disk, so that a kill does not lose it.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, Final

from obitus.client import runs
from obitus.client.sender import Sender

LONGEST_OUTSIDE_S: Final = 0.25
LONGEST_IN_A_RUN_S: Final = 2.0
MOST_HELD: Final = 100


class _Held:
    __slots__ = ("path", "report", "run", "until_s")

    def __init__(self, report: dict[str, Any], run: runs.RunState | None, until_s: float) -> None:
        self.report, self.run, self.until_s = report, run, until_s
        self.path: Path | None = None


class Held:
    """The failures of one process that are kept back. No lock: ``pop`` takes each out once."""

    def __init__(self, sender: Sender, timer: Callable[[], float]) -> None:
        self._sender = sender
        self._timer = timer
        self._held: dict[str, _Held] = {}
        self.soonest_s: float | None = None
        """When the next one is due, by the timer."""

    def hold(self, report: dict[str, Any], run: runs.RunState | None, *, at_once: bool) -> bool:
        """Keep a failure back; ``at_once`` has it on disk when this returns. Return whether there was room for it."""
        if len(self._held) >= MOST_HELD:
            return self._sender.put(report)
        longest_s = LONGEST_OUTSIDE_S if run is None else LONGEST_IN_A_RUN_S
        failure = _Held(report, run, self._timer() + longest_s)
        if at_once:
            failure.path = self._sender.put_down(report, held=True)
            if report.get("dropped"):
                return False
        self._held[report["id"]] = failure
        if self.soonest_s is None or failure.until_s < self.soonest_s:
            self.soonest_s = failure.until_s
        self._sender.wake()
        return True

    def strengthen(self, report_id: str | None, **changes: Any) -> bool:
        """Report a failure that is kept back as unhandled; return whether it was still kept back."""
        failure = self._held.pop(report_id, None) if report_id is not None else None
        if failure is None:
            return False
        failure.report |= changes
        self._sender.keep(failure.report)
        if failure.path is not None:
            self._sender.let_go(failure.path, send=False)
        return True

    def release(self, run: runs.RunState | None = None, *, due: bool = False) -> None:
        """Send failures that are kept back: all, those of a run, or those kept for long enough."""
        if not self._held:
            return
        now_s = self._timer()
        soonest_s: float | None = None
        for report_id, failure in list(self._held.items()):
            if (run is not None and failure.run is not run) or (due and failure.until_s > now_s):
                soonest_s = failure.until_s if soonest_s is None else min(soonest_s, failure.until_s)
                continue
            if self._held.pop(report_id, None) is None:
                continue
            if failure.path is not None:
                self._sender.let_go(failure.path, send=True)
            else:
                self._sender.put(failure.report)
        self.soonest_s = soonest_s
        self._sender.wake()

    def write(self) -> None:
        """Write everything that is kept back to disk."""
        for report_id, failure in list(self._held.items()):
            if failure.path is not None:
                continue
            failure.path = self._sender.put_down(failure.report, held=True)
            if failure.path is not None and report_id not in self._held:
                # It was taken out meanwhile.
                self._sender.let_go(failure.path, send=False)

    def abandon(self) -> None:
        """In a forked child: these are the parent's."""
        self._held.clear()
