"""Hands over new, regressed and reopened unassigned issues, by the team's rules and CODEOWNERS."""

from __future__ import annotations

from typing import ClassVar

from obitus.service.clock import Clock
from obitus.service.jobs.runner import Job
from obitus.service.jobs.who_takes import Takers
from obitus.store import events, handing
from obitus.store import issues as issue_store
from obitus.store.errors import UNREADABLE, NotThere
from obitus.store.events import Event
from obitus.store.records import Records


class Handing(Job):
    """Hands an issue over when it is new, regressed or reopened."""

    name: ClassVar = "handing"
    kinds: ClassVar = frozenset[events.Kind]({"issue-new", "issue-regressed", "issue-reopened"})
    from_newest: ClassVar = True

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock

    def take(self, event: Event) -> None:
        """Hand over the issue of an event, if nobody has it."""
        try:
            issue = issue_store.issue(self._records.reader, event.subject["issue"])
            takers = Takers(self._records).of(issue) if issue.holder is None else []
        except (NotThere, *UNREADABLE):
            # Removed meanwhile, or its evidence is gone.
            return
        if takers:
            now_ms = self._clock.now_ms()
            self._records.writer.run(lambda c: handing.hand(c, issue.id, takers, now_ms))
