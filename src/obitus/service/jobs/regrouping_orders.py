"""Orders for merging, splitting and regrouping. An order is stored with its event, and a job carries it out."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from obitus.core.wording import count_of
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.store import events
from obitus.store import regrouping as store
from obitus.store.issues import note
from obitus.store.records import Records
from obitus.store.rows.issues import Issue

Act = Literal["merge", "split", "regroup", "undo"]


class RegroupingOrders:
    """Stores orders. Each is one transaction, and returns the number of the regrouping."""

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock

    def merge(self, issue: Issue, into: Issue, person_id: int, person: str) -> int:
        """Move all failures of an issue to another, and make its fingerprints lead there."""
        now_ms = self._clock.now_ms()
        remark = f"{person} merged issue {issue.id} into issue {into.id}."

        def ask(connection: sqlite3.Connection) -> int:
            number = store.begin(connection, "merge", remark, person_id, issue.failures_in_all, now_ms)
            # New failures go there at once.
            store.lead_all(connection, number, issue.id, into.id, f"{person} merged it")
            store.merged_into(connection, issue.id, into.id)
            for issue_id in (issue.id, into.id):
                note(connection, issue_id, person_id, remark, now_ms)
            _ask_for(connection, number, "merge", now_ms, issue=issue.id, into=into.id)
            return number

        return self._records.writer.run(ask)

    def split(
        self, issue: Issue, names: Sequence[str], fingerprints: Sequence[str], person_id: int, person: str
    ) -> int:
        """Split an issue: by the values of attributes, or by taking some of its fingerprints out."""
        how = f"by {', '.join(names)}" if names else f"by {count_of(len(fingerprints), 'fingerprint')}"
        remark = f"{person} split issue {issue.id} {how}."
        now_ms = self._clock.now_ms()

        def ask(connection: sqlite3.Connection) -> int:
            number = store.begin(connection, "split", remark, person_id, issue.failures_in_all, now_ms)
            note(connection, issue.id, person_id, remark, now_ms)
            about = {"issue": issue.id, "by": list(names), "fingerprints": list(fingerprints)}
            _ask_for(connection, number, "split", now_ms, **about)
            return number

        return self._records.writer.run(ask)

    def regroup(self, app_id: int, app: str, person_id: int, person: str, reason: str = "") -> int:
        """Regroup all past failures of an app with the recipe and the active rules. ``reason`` is given where nobody asked for it."""
        total = store.failures_of_app(self._records.reader, app_id)
        now_ms = self._clock.now_ms()
        reason = reason or f"{person} regrouped the history of {app}."

        def ask(connection: sqlite3.Connection) -> int:
            number = store.begin(connection, "regroup", reason, person_id, total, now_ms)
            _ask_for(connection, number, "regroup", now_ms, app_id=app_id, app=app, person_id=person_id, said=reason)
            return number

        return self._records.writer.run(ask)

    def undo(self, number: int, person_id: int, person: str) -> None:
        """Undo a regrouping: move its failures back, and later ones with its fingerprints."""
        now_ms = self._clock.now_ms()

        def ask(connection: sqlite3.Connection) -> None:
            store.end(connection, number, "undoing", now_ms)
            _ask_for(connection, number, "undo", now_ms, person_id=person_id, person=person)

        self._records.writer.run(ask)


def _ask_for(connection: sqlite3.Connection, number: int, act: Act, now_ms: int, **about: Any) -> None:
    events.add(connection, "regrouping-asked", now_ms, regrouping=number, act=act, **about)


TheRegroupingOrders = Annotated[RegroupingOrders, part("regrouping_orders")]
