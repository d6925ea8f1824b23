"""Limits for each kind of report, and reporting how much was dropped: an unknown gap would mislead."""

from __future__ import annotations

from typing import Final

from obitus.client.base import Base
from obitus.client.rate import Rate

BURST_S: Final = 8.0
FIRSTS_PER_S: Final = 2.0
FIRSTS_AT_ONCE: Final = 50.0
"""Failures unlike all before them, beyond the rate."""
RUNS_PER_S: Final = 50.0
LOGS_PER_S: Final = 200.0


class Limits:
    """The rates of one process."""

    failures: Rate
    runs: Rate
    logs: Rate

    def __init__(self, base: Base) -> None:
        self._base = base
        self._reported: dict[str, int] = {}

    def begin(self) -> None:
        """Begin, with full room."""
        per_s, timer = self._base.settings.failures_per_second, self._base.timer
        self.failures = Rate(per_s, per_s * BURST_S, timer)
        self._firsts: Rate | None = None
        self.runs = Rate(RUNS_PER_S, RUNS_PER_S * BURST_S, timer)
        self.logs = Rate(LOGS_PER_S, LOGS_PER_S * BURST_S, timer)
        self._reported = {}

    def no_room(self, rate: Rate) -> bool:
        """Whether nothing more can be taken at this moment; then it is counted as dropped."""
        why = self.refusal(rate)
        if why is not None:
            self._base.sender.drop(why)
        return why is not None

    def refusal(self, rate: Rate) -> str | None:
        """Take one: return None, or the reason why nothing more can be taken at this moment."""
        if self._base.sender.full:
            return "the queue is full"
        return None if rate.allows() else "too many at once"

    def may_be_first(self) -> bool:
        """Whether a failure unlike all before it may be taken beyond the rate: a flood of one must not hide another."""
        if self._base.sender.full:
            return False
        if self._firsts is None:
            self._firsts = Rate(FIRSTS_PER_S, FIRSTS_AT_ONCE, self._base.timer)
        return self._firsts.allows()

    @property
    def has_reported(self) -> bool:
        """Whether anything that was dropped was reported."""
        return bool(self._reported)

    def report_dropped(self) -> None:
        """Report what was dropped since the last time, and why."""
        base = self._base
        dropped = dict(base.sender.dropped)
        new = {why: count - self._reported.get(why, 0) for why, count in dropped.items()}
        new = {why: count for why, count in new.items() if count}
        if not new:
            return
        self._reported = dropped
        reasons = ", ".join(f"{count:,} because {why}" for why, count in sorted(new.items()))
        report = base.new_report("log", "WARN", None, {f"dropped.{why}": count for why, count in new.items()})
        report |= {"logger": "obitus.client", "message": f"{sum(new.values()):,} reports were dropped: {reasons}."}
        base.sender.put(report)
