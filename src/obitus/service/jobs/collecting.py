"""Collecting: records that an issue collects become failures of it, past and new ones."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator, Mapping
from functools import partial
from typing import Annotated, Any, ClassVar, Final

import pydantic_core

from obitus.core.asking.records import Kind as RecordKind
from obitus.core.comparing import FailureRate
from obitus.core.quiet import failing
from obitus.core.quiet.finding import Kind, Quiet
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.intake.prepare import Preparer, Ready, Sender
from obitus.service.jobs.runner import Job
from obitus.store import events
from obitus.store import quiet as store
from obitus.store.asking.compiling import Names
from obitus.store.asking.finding import arrived, names_in
from obitus.store.asking.records import Record
from obitus.store.errors import UNREADABLE, QueryTooLong
from obitus.store.intake.facts import Prepared, Taken
from obitus.store.intake.taking import take
from obitus.store.records import Records
from obitus.store.rows.quiet import Collected, QuietRow

MOST_DAYS: Final = 15
"""The number of newest days that are searched."""
MOST_AT_ONCE: Final = 500
PLACES_AT_ONCE: Final = 100_000
LEAST_PLACES: Final = 500
LIMIT_S: Final = 2.0
KEPT_EVERY_S: Final = 30.0
"""The interval of storing positions when nothing was found: reading records twice adds nothing."""

_log = logging.getLogger("obitus.service")


class Collecting(Job):
    """Searches new records, about once a second while reports come, for those to be collected."""

    name: ClassVar = "collecting"
    kinds: ClassVar = frozenset[events.Kind]()
    rest_s: ClassVar = 0.5
    longest_rest_s: ClassVar = 5.0
    from_newest: ClassVar = True

    def __init__(self, records: Records, clock: Clock, preparer: Preparer) -> None:
        self._records, self._clock, self._preparer = records, clock, preparer
        self._marks: dict[int, dict[int, int]] = {}
        self._kept_s: dict[int, float] = {}

    def take(self, event: events.Event) -> None:
        """Events are no records: nothing."""

    def finish_turn(self) -> None:
        """Search the records since the last time."""
        reader = self._records.reader
        rows = [row for row in store.collecting(reader) if row.kind in failing.LOOKED_FOR]
        if not rows:
            return
        names = names_in(reader)
        known = self._records.days.latest(MOST_DAYS)
        for row in rows:
            marks = self._marks.setdefault(row.issue_id, store.looked_to(reader, row.issue_id))
            # The oldest first, in the order of arrival.
            for day in reversed(known):
                try:
                    self._look_through(row, names, day.day, marks, day.last_place)
                except QueryTooLong:
                    continue
                except UNREADABLE as error:
                    _log.warning("what issue %d collects cannot be read: %s", row.issue_id, error)

    def _look_through(self, row: Collected, names: Names, day: int, marks: dict[int, int], last: int) -> None:
        """Make failures of matching records among the unread places of a day."""
        at = marks.get(day, 0)
        size = PLACES_AT_ONCE
        while at < last:
            upto = min(last, at + size)
            found, more = self._found(row, names, day, (at, upto))
            if more and size > LEAST_PLACES:
                size = max(LEAST_PLACES, size // 8)
                continue
            failures = [one for one in self._failures(row, found) if one is not None]
            at = marks[day] = upto
            now_s = time.monotonic()
            if failures or now_s - self._kept_s.get(row.issue_id, 0.0) > KEPT_EVERY_S:
                self._kept_s[row.issue_id] = now_s
                self._records.writer.run(partial(self._write, made=failures, issue_id=row.issue_id, places={day: upto}))

    def _write(self, connection: Any, *, made: list[Prepared], issue_id: int, places: Mapping[int, int]) -> None:
        """Write failures and positions, in one commit."""
        take(connection, self._records.writer.days, made)
        store.move(connection, issue_id, places)

    def _found(self, row: Collected, names: Names, day: int, places: tuple[int, int]) -> tuple[list[Record], int]:
        kind: RecordKind = failing.LOOKED_FOR[row.kind]
        node = failing.asked(row.app, row.kind, row.subject)
        return arrived(self._records.days, day, kind, node, names, places, MOST_AT_ONCE, LIMIT_S)

    def _failures(self, row: Collected, records: list[Record]) -> Iterator[Prepared | None]:
        contents = self._records.evidence.contents(record.seq for record in records)
        for record, content in zip(records, contents, strict=True):
            if content is not None and failing.means(content, row.kind, row.subject):
                report = failing.failure_of(content, row.kind, row.subject)
                environment = str(record.values.get("environment") or "")
                yield self.prepared(report, row.app_id, row.app, environment)

    def prepared(self, report: dict[str, Any], app_id: int, app: str, environment: str) -> Prepared | None:
        """Return a failure that was made here, prepared like a reported one."""
        sender = Sender(app_id, app, environment, self._clock.now_ms())
        ready = self._preparer.prepare(pydantic_core.to_json(report), sender)
        if isinstance(ready, Ready):
            return ready.prepared
        _log.error("a collected failure was refused: %s (%s)", ready.reason, ready.field)
        return None

    def add_silent(self, quiet_by_place: Mapping[tuple[int, str, Kind], list[Quiet]]) -> None:
        """Make failures of jobs that did not run, where an issue collects them, once for each absence."""
        for row in store.collecting(self._records.reader):
            for (app_id, environment, kind), some in quiet_by_place.items():
                if kind == row.kind == "silent" and app_id == row.app_id:
                    for silent in some:
                        if silent.subject == row.subject and (
                            made := self._silent(silent, row.app_id, row.app, environment)
                        ):
                            self.issue_of(made)

    def _silent(self, quiet_failure: Quiet, app_id: int, app: str, environment: str) -> Prepared | None:
        report = failing.did_not_run(
            quiet_failure.subject, environment, quiet_failure.reason, quiet_failure.last_hour or 0, self._clock.now_ms()
        )
        return self.prepared(report, app_id, app, environment)

    def first(self, quiet: QuietRow) -> Prepared | None:
        """Return the failure of the latest collected record; None where none is kept."""
        if quiet.kind == "silent":
            hours = [
                job_hour.hour
                for job_hour in store.job_hours(self._records.reader, self._clock.now_ms())
                if (job_hour.app_id, job_hour.environment, job_hour.entry_point)
                == (quiet.app_id, quiet.environment, quiet.subject)
            ]
            missed = Quiet(
                quiet.subject, quiet.reason, FailureRate(0, 0), FailureRate(0, 0), quiet.chance, max(hours, default=0)
            )
            return self._silent(missed, quiet.app_id, quiet.app, quiet.environment)
        names = names_in(self._records.reader)
        row = Collected(0, quiet.app_id, quiet.app, quiet.kind, quiet.subject, 0)
        for day in self._records.days.latest(MOST_DAYS):
            upto = day.last_place
            while upto > 0:
                after = max(0, upto - PLACES_AT_ONCE)
                found, _ = self._found(row, names, day.day, (after, upto))
                for record in reversed(found):
                    failures = [
                        failure_made for failure_made in self._failures(row, [record]) if failure_made is not None
                    ]
                    if failures:
                        return failures[0]
                upto = after
        return None

    def issue_of(self, prepared: Prepared) -> int:
        """Write a failure; return its issue."""

        def write(connection: Any) -> Taken:
            return take(connection, self._records.writer.days, [prepared])[0]

        taken = self._records.writer.run(write)
        if taken.issue_id is not None:
            return taken.issue_id
        # It was made before: its issue is that of its fingerprint.
        return store.issue_of_fingerprint(self._records.reader, prepared.app_id, prepared.failure.decided.fingerprint)  # type: ignore[union-attr]


TheCollecting = Annotated[Collecting, part("collecting")]
