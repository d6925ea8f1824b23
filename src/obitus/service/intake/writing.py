"""Writing prepared reports: they are handed to the writer in parts, and everybody who waits is notified of each part."""

from __future__ import annotations

import asyncio
import sqlite3
from collections import Counter
from collections.abc import Iterable, Sequence
from concurrent.futures import Future
from typing import Any, Final, NamedTuple

from obitus.service.intake.bodies import SECONDS_OF_A_WRITE, Pass
from obitus.service.intake.intake import Intake
from obitus.service.intake.prepare import Ready, Sender
from obitus.service.intake.worker_tasks import Outcomes
from obitus.service.problems import as_problem
from obitus.store import key_use
from obitus.store.errors import StoreBroken, StoreBusy, StoreError, StoreTrouble
from obitus.store.intake.facts import Taken
from obitus.store.intake.taking import take
from obitus.store.names import MOST_ENTRY_POINTS, OTHERS
from obitus.store.releases import MOST_RELEASES

BEYOND: Final = f"release: the app has {MOST_RELEASES:,} releases already, so this report counts as one without a release. Name releases, not builds or commits."
AMONG_OTHERS: Final = f"entry_point: the app has {MOST_ENTRY_POINTS:,} entry points already, so these runs are counted with others as “{OTHERS}”. Name routes, not addresses."
MOST_AT_ONCE: Final = 500
FEW_AT_ONCE: Final = 50
"""Log records of one batch that are written together; and the same while others wait."""
WEIGHT: Final = {"failure": 10, "tally": 4, "run": 2, "log": 1}
"""How many log records cost as much to write as one report of a kind."""
MOST_DAYS_AT_ONCE: Final = 6
"""Days whose reports are written together: each has its own file."""


class _Part(NamedTuple):
    """Reports that the writer has, the bytes that count with them, and what becomes of them."""

    ready: Sequence[Ready]
    sent: int
    taken: Future[list[Taken]]


class Writing:
    """Writes the reports of one request. A large batch is written in parts, in small ones while others wait, so that
    their reports are written in between.
    """

    def __init__(self, intake: Intake, held: Pass, sender: Sender) -> None:
        self.intake, self.held, self.sender = intake, held, sender
        self._begun: _Part | None = None

    def begin(self, outcomes: Outcomes) -> None:
        """Hand the first part to the writer, on the thread that prepared it: then the event loop's next turn does not
        have to come first. ``write`` has to follow, with all of them.
        """
        ready = [one for one in outcomes if isinstance(one, Ready)]
        if ready:
            self._begun = self._handed_over(self._next_part(ready, 0))

    async def write(self, ready: Sequence[Ready]) -> list[Taken | StoreError]:
        """Write prepared reports and notify the live stream; return the result of each."""
        results: list[Taken | StoreError] = []
        while len(results) < len(ready):
            part, self._begun = self._begun or self._handed_over(self._next_part(ready, len(results))), None
            results += await self._finished(part)
        return results

    def _next_part(self, ready: Sequence[Ready], start: int) -> Sequence[Ready]:
        """Return the reports from ``start`` on that are written together: at least one."""
        most = FEW_AT_ONCE if self.held.is_heavy else MOST_AT_ONCE
        weight = 0
        days: set[int] = set()
        for end in range(start, len(ready)):
            weight += _weight(ready[end])
            days.add(ready[end].prepared.day)
            if end > start and (weight > most or len(days) > MOST_DAYS_AT_ONCE):
                return ready[start:end]
        return ready[start:]

    def _handed_over(self, ready: Sequence[Ready]) -> _Part:
        """Queue reports at the writer; a full queue is an error of theirs like any other."""
        prepared, days = [one.prepared for one in ready], self.intake.records.writer.days
        # All bytes of a body count with its first part that is on disk.
        key, sent, today = self.held.key, self.held.sent, self.intake.day_use.today

        def work(connection: sqlite3.Connection) -> list[Taken]:
            taken = take(connection, days, prepared)
            key_use.add(connection, key, today, _came(taken), sent)
            return taken

        try:
            return _Part(ready, sent, self.intake.records.writer.submit(work))
        except StoreBusy as busy:
            refused: Future[list[Taken]] = Future()
            refused.set_exception(busy)
            return _Part(ready, sent, refused)

    async def _finished(self, part: _Part) -> list[Taken | StoreError]:
        """Wait until a part is on disk, and tell everybody; return the result of each report."""
        try:
            taken = await asyncio.wrap_future(part.taken)
        except StoreBroken as error:
            return [error] if len(part.ready) == 1 else await self._one_by_one(part.ready)
        except (StoreBusy, StoreTrouble) as error:
            # An error of the store is no verdict on the report: the sender sends it again.
            raise as_problem(error) from error
        intake, sender = self.intake, self.sender
        self.held.sent = 0
        intake.day_use.add(self.held.key, _came(taken), part.sent)
        for report, became in zip(part.ready, taken, strict=True):
            failure = report.prepared.failure
            if became.only_counted and failure is not None and became.issue_id is not None:
                intake.flooding.note(sender.app_id, failure.decided.fingerprint, became.issue_id, sender.received_ms)
        if any(report.beyond for report in taken):
            intake.remark(sender.app, "too-many-releases", BEYOND)
        if any(report.among_others for report in taken):
            intake.remark(sender.app, "too-many-entry-points", AMONG_OTHERS)
        _tell(intake, sender, taken)
        hits = Counter(report.hit_of for report in taken if report.hit_of)
        if hits:
            await intake.tracepoints.hit(sender.app_id, hits)
        return list(taken)

    async def _one_by_one(self, ready: Sequence[Ready]) -> list[Taken | StoreError]:
        """Write each report separately: one that the store refuses must not keep the others out."""
        results = [(await self._finished(self._handed_over([report])))[0] for report in ready]
        # Only a report that is refused again, after all others were written, is refused for itself.
        for place, report in enumerate(ready):
            if isinstance(results[place], StoreError):
                results[place] = (await self._finished(self._handed_over([report])))[0]
        return results


def seconds_to_write(ready: Iterable[Ready]) -> float:
    """Return about how long the writer needs for reports."""
    return SECONDS_OF_A_WRITE * sum(map(_weight, ready)) / WEIGHT["failure"]


def _weight(ready: Ready) -> int:
    return WEIGHT["run" if ready.prepared.is_brief else ready.prepared.kind]


def _came(taken: Sequence[Taken]) -> int:
    """Return how many reports came, without those that are prepared again."""
    return sum(not one.wants_whole for one in taken)


def _tell(intake: Intake, sender: Sender, taken: list[Taken]) -> None:
    issues: dict[int, dict[str, Any]] = {}
    for report in taken:
        if report.issue_id is not None:
            counted = issues.setdefault(report.issue_id, {"issue": report.issue_id, "failures": 0})
            counted["failures"] += 1
            counted["new"] = counted.get("new", False) or report.new_issue
            counted["regressed"] = counted.get("regressed", False) or report.regressed
    if any(not report.already_there and not report.wants_whole for report in taken):
        intake.live.publish(
            {
                "type": "reports",
                "app": sender.app,
                "environment": sender.environment,
                "stored": sum(not report.already_there and not report.wants_whole for report in taken),
                "issues": list(issues.values()),
            }
        )
