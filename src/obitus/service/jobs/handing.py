"""Issues that are new or back, and that nobody has, are handed to whom the team's rules and owners' files say."""

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
    """Hands an issue over once it is there, or back."""

    name: ClassVar = "handing"
    kinds: ClassVar = frozenset[events.Kind]({"issue-new", "issue-regressed", "issue-reopened"})
    from_newest: ClassVar = True

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock

    def take(self, event: Event) -> None:
        """Hand over the issue of an event; one that somebody has stays theirs."""
        try:
            issue = issue_store.issue(self._records.reader, event.subject["issue"])
            found = Takers(self._records).of(issue) if issue.holder is None else []
        except (NotThere, *UNREADABLE):
            # Removed meanwhile, or nothing is left of it to go by.
            return
        if found:
            now_ms = self._clock.now_ms()
            self._records.writer.run(lambda c: handing.hand(c, issue.id, found, now_ms))
