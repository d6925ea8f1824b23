"""Lost children: what they left on disk says more than their parent's message, and both are one failure."""

from __future__ import annotations

from typing import Any, Final

from obitus.client.base import Base
from obitus.client.failures import Failures
from obitus.client.guard import guarded
from obitus.client.open_runs import OpenRuns

WAIT_S: Final = 3.0
MOST_EXPECTED: Final = 200


class _Expected:
    __slots__ = ("by_itself", "chain", "entry_point", "until_s")

    def __init__(self, entry_point: str, chain: list[dict[str, Any]], until_s: float, *, by_itself: bool) -> None:
        self.entry_point, self.chain, self.until_s, self.by_itself = entry_point, chain, until_s, by_itself


class LostChildren:
    """Waits for the marks of ended children, by the id of the task that they worked on."""

    def __init__(self, base: Base, open_runs: OpenRuns, failures: Failures) -> None:
        self._base, self._runs, self._failures = base, open_runs, failures
        self._expected: dict[str, _Expected] = {}

    @guarded
    def expect(self, task_id: str, entry_point: str, error: BaseException, *, by_itself: bool) -> None:
        """A child that worked on a task is lost; ``by_itself`` when it exited by itself, and has reported that."""
        if task_id in self._expected or len(self._expected) >= MOST_EXPECTED:
            return
        chain = self._failures.chain(error)
        until_s = self._base.timer() + WAIT_S
        self._expected[task_id] = _Expected(entry_point, chain, until_s, by_itself=by_itself)
        self._base.sender.wake()

    @property
    def waiting(self) -> bool:
        """Whether it waits for any."""
        return bool(self._expected)

    def chain_for(self, left: dict[str, Any]) -> list[dict[str, Any]] | None:
        """Return the parent's message about the child that left this report of an open run."""
        expected = self._expected.pop(str((left.get("attributes") or {}).get("task.id")), None)
        return expected.chain if expected is not None else None

    def give_up(self) -> None:
        """Report those that left nothing in time: they ended before they could."""
        now_s = self._base.timer()
        for task_id, expected in list(self._expected.items()):
            if expected.until_s > now_s:
                continue
            self._expected.pop(task_id, None)
            if expected.by_itself:
                continue
            run = self._runs.new(expected.entry_point)
            run.attach("task.id", task_id)
            run.outcome = "failed"
            self._failures.record_lost(expected.chain, run)
            self._runs.finish(run, "failed")
