"""The next records for a target: in the order in which they came, from its position in each day file."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Final

from obitus.core.asking import Node
from obitus.core.asking.records import Kind
from obitus.core.clock import DAY_MS, to_text
from obitus.core.headline import Headline
from obitus.core.ids import derived_id
from obitus.core.redaction import Redactor
from obitus.store import events
from obitus.store import issues as issue_store
from obitus.store.alerts import firings
from obitus.store.asking.finding import arrived, names_in
from obitus.store.errors import UNREADABLE, NotThere
from obitus.store.events import Event
from obitus.store.records import Records

PLACES_AT_ONCE: Final = 1000
MOST_AT_ONCE: Final = 500
BOUND_MS: Final = 7 * DAY_MS
"""Older records are lost for a target that did not accept them within this time."""
LIMIT_S: Final = 20.0
STORED: Final[tuple[Kind, ...]] = ("failure", "log", "run")
ISSUE_CHANGES: Final = {
    "issue-new": "new",
    "issue-regressed": "regressed",
    "issue-reopened": "reopened",
    "issue-decided": "decided",
}
ALERT_CHANGES: Final = {"alert-fired": "fired", "alert-over": "over"}
_ISSUES: Final = "SELECT seq, issue_id FROM failures WHERE seq IN (SELECT value FROM json_each(?))"


@dataclass(frozen=True, slots=True)
class TargetFilter:
    """The filter of a target."""

    passes: frozenset[str]
    node: Node | None
    redactor: Redactor | None


@dataclass(slots=True)
class Next:
    """The next records, and the target's position once it has accepted them."""

    records: list[dict[str, Any]] = field(default_factory=list)
    places: dict[int, int] = field(default_factory=dict)
    events_to: int = 0
    lost: int = 0

    @property
    def is_empty(self) -> bool:
        """Whether there are no records."""
        return not self.places and not self.events_to and not self.lost


class Reading:
    """Reads for one target."""

    def __init__(self, records: Records, wanted: TargetFilter, home: str) -> None:
        self._records, self._wanted, self._home = records, wanted, home

    def next(self, at: Mapping[int, int], events_to: int, now_ms: int) -> Next:
        """Return what comes after a position: records of one day file, or events."""
        batch = Next()
        if self._wanted.passes & {"issue", "alert"}:
            self._events(events_to, batch)
            if batch.records:
                return batch
        if not self._wanted.passes & set(STORED):
            return batch
        for day in sorted(self._records.days.known(), key=lambda one: one.day):
            begin = at.get(day.day, 0)
            if begin >= day.last_place:
                continue
            if day.day and (day.day + 1) * DAY_MS < now_ms - BOUND_MS and day.latest_ms < now_ms - BOUND_MS:
                batch.places[day.day] = day.last_place
                batch.lost += day.last_place - begin
                continue
            end = min(day.last_place, begin + PLACES_AT_ONCE)
            try:
                batch.records = list(self._stored(day.day, begin, end))
            except UNREADABLE:
                # Its file was removed: nothing of it can be passed on any more.
                end = day.last_place
                batch.lost += end - begin
            batch.places[day.day] = end
            return batch
        return batch

    def _stored(self, day: int, begin: int, end: int) -> Iterator[dict[str, Any]]:
        names = names_in(self._records.reader)
        rows: list[tuple[int, Kind, dict[str, Any]]] = []
        for kind in STORED:
            if kind in self._wanted.passes:
                some, _ = arrived(
                    self._records.days, day, kind, self._wanted.node, names, (begin, end), PLACES_AT_ONCE, LIMIT_S
                )
                rows += [(record.seq, kind, record.values) for record in some]
        rows.sort(key=lambda row: row[0])
        issues = self._issues_of([seq for seq, kind, _ in rows if kind == "failure"])
        contents = self._records.evidence.contents((seq for seq, _, _ in rows), ids=False)
        for (seq, kind, values), content in zip(rows, contents, strict=True):
            if content is None:
                continue
            record = {
                **content,
                "kind": kind,
                "id": content.get("id") or derived_id(int(values["time"]), "log", seq),
                "number": seq,
                "app": values.get("app"),
                "environment": values.get("environment"),
                "release": values.get("release") or content.get("release"),
            }
            if seq in issues:
                record["issue"] = issues[seq]
            yield record if self._wanted.redactor is None else self._wanted.redactor.report(record)

    def _issues_of(self, seqs: list[int]) -> dict[int, int]:
        if not seqs:
            return {}
        return {int(row[0]): int(row[1]) for row in self._records.reader.rows(_ISSUES, (json.dumps(seqs),))}

    def _events(self, events_to: int, batch: Next) -> None:
        for event in events.after(self._records.reader, events_to, MOST_AT_ONCE):
            batch.events_to = event.id
            record = self._of_event(event)
            if record is not None:
                batch.records.append(record)

    def _of_event(self, event: Event) -> dict[str, Any] | None:
        if event.kind in ISSUE_CHANGES and "issue" in self._wanted.passes:
            about = self._issue(int(event.subject["issue"]))
            return about and about | self._head(event, "issue", ISSUE_CHANGES[event.kind])
        if event.kind in ALERT_CHANGES and "alert" in self._wanted.passes:
            about = self._alert(int(event.subject["firing"]))
            return about and about | self._head(event, "alert", ALERT_CHANGES[event.kind])
        return None

    @staticmethod
    def _head(event: Event, kind: str, change: str) -> dict[str, Any]:
        return {
            "kind": kind,
            "change": change,
            "id": derived_id(event.time_ms, "event", event.id),
            "time": to_text(event.time_ms),
        }

    def _issue(self, number: int) -> dict[str, Any] | None:
        try:
            issue = issue_store.issue(self._records.reader, number)
        except NotThere:
            return None
        return {
            "issue": number, "app": issue.app, "title": Headline(issue.type, issue.cause, issue.place).title, "state": issue.state,
            "type": issue.type, "entry_point": issue.entry_point, "failures": issue.failures_in_all, "people": issue.users,
            "release": issue.latest_in, "severity": "ERROR", "link": f"{self._home}/issues/{number}",
        }  # fmt: skip

    def _alert(self, number: int) -> dict[str, Any] | None:
        try:
            row = firings.firing(self._records.reader, number)
        except NotThere:
            return None
        records = json.loads(row.records)
        return {
            "firing": number, "rule": row.rule, "condition": row.condition, "priority": row.priority, "title": f"{row.rule}: {row.reason}",
            "about": list(firings.key_of(row)), "issue": row.issue_id, "app": records.get("app"), "environment": row.environment,
            "value": row.value, "bound": row.bound, "begun": to_text(row.begun_ms), "over": None if row.over_ms is None else to_text(row.over_ms),
            "severity": "ERROR" if row.priority == "high" else "WARN", "link": f"{self._home}/alerts/firings/{number}",
        }  # fmt: skip
