"""Carries out merges, splits and regroupings in steps that can each be undone, with progress."""

from __future__ import annotations

import logging
import sqlite3
import threading
from collections.abc import Callable, Sequence
from typing import Any, ClassVar, Final, TypeVar

from obitus.service.clock import Clock
from obitus.service.intake.prepare import Preparer
from obitus.service.jobs.planning import Group, Planner
from obitus.service.jobs.regrouping_orders import RegroupingOrders
from obitus.service.jobs.runner import Interrupted, Job
from obitus.store import events
from obitus.store import grouping as store_grouping
from obitus.store import issues as store_issues
from obitus.store import regrouping as store
from obitus.store.errors import StoreBusy
from obitus.store.events import Event
from obitus.store.grouping import apart_text
from obitus.store.issues import note
from obitus.store.records import Records
from obitus.store.regrouping import Move
from obitus.store.rows.issues import Issue

_log = logging.getLogger("obitus.service")
MOST_VALUES: Final = 50
BUSY_S: Final = 0.1
Result = TypeVar("Result")


class Regrouping(Job):
    """One regrouping after the other. One that a stop or a kill interrupted is undone, since nobody wants half of it."""

    name: ClassVar = "regrouping"
    kinds: ClassVar = frozenset[events.Kind]({"regrouping-asked"})

    def __init__(
        self,
        records: Records,
        clock: Clock,
        preparer: Preparer,
        planner: Planner,
        orders: RegroupingOrders,
        stopping: threading.Event,
    ) -> None:
        self._records, self._clock, self._preparer, self._planner = records, clock, preparer, planner
        self._stopping = stopping
        for row in store.broken_off(records.reader):
            orders.undo(row.id, row.person_id, "the next start")

    def take(self, event: Event) -> None:
        """Carry out an order, once: one that was begun already is undone by an order of its own."""
        about = event.subject
        number: int = about["regrouping"]
        if about["act"] == "undo":
            if store.regrouping(self._records.reader, number).state == "undoing":
                self._end(number, self._guarded(number, lambda: self._undo(number, about), "undone"))
        elif store.waits(self._records.reader, number):
            now_ms = self._clock.now_ms()
            self._write(lambda c: store.begun(c, number, now_ms))
            self._end(number, self._guarded(number, lambda: self._carry_out(number, about), "done"))

    def _carry_out(self, number: int, about: dict[str, Any]) -> None:
        if about["act"] == "regroup":
            self._regroup(number, about)
            return
        issue = store_issues.issue(self._records.reader, about["issue"])
        if about["act"] == "merge":
            self._move_all(number, issue.id, about["into"])
        elif about["by"]:
            self._split_by_values(number, issue, about["by"])
        else:
            self._split_out(number, issue, about["fingerprints"])

    def _guarded(self, number: int, act: Any, state: str) -> str:
        try:
            act()
        except Interrupted:
            raise
        except Exception:
            _log.exception("regrouping %d failed; what it moved can be undone", number)
            return "failed"
        return state

    def _end(self, number: int, state: str) -> None:
        now_ms = self._clock.now_ms()

        def end(connection: Any) -> None:
            store.end(connection, number, state, now_ms)
            events.add(connection, "regrouping", now_ms, regrouping=number, state=state)

        self._write(end)

    def _write(self, work: Callable[[sqlite3.Connection], Result]) -> Result:
        """Submit work to the writer; while senders fill its queue, wait for a place."""
        while True:
            try:
                return self._records.writer.run(work)
            except StoreBusy:
                if self._stopping.wait(BUSY_S):
                    raise Interrupted from None

    def _move_all(self, number: int, from_issue: int, to_issue: int) -> None:
        while seqs := store.seqs_of(self._records.reader, from_issue, 0, store.MOST_IN_ONE_STEP):
            self._move(number, [Move(seq, from_issue, to_issue) for seq in seqs])
        self._sum_up([from_issue, to_issue])

    def _move(self, number: int, moves: list[Move], *, keep: bool = True) -> None:
        for start in range(0, len(moves), store.MOST_IN_ONE_STEP):
            if self._stopping.is_set():
                raise Interrupted
            step = moves[start : start + store.MOST_IN_ONE_STEP]
            self._write(lambda c, step=step: store.move(c, number, step, keep=keep))  # type: ignore[misc]

    def _sum_up(self, issues: Sequence[int]) -> None:
        now_ms = self._clock.now_ms()

        def sum_up(connection: Any) -> None:
            store.sum_up(connection, issues)
            for issue in issues:
                events.add(connection, "issue-changed", now_ms, issue=issue)

        self._write(sum_up)

    def _split_by_values(self, number: int, issue: Issue, names: Sequence[str]) -> None:
        values = self._planner.split_values(issue, names, most=10_000_000)
        # The largest part stays; the others become issues of their own.
        parts = sorted(values.items(), key=lambda part: (-len(part[1]), part[0]))
        fingerprints = [(row.app_id, row.fingerprint) for row in store.fingerprints_of(self._records.reader, issue.id)]
        by = ", ".join(names)

        def arrange(connection: Any) -> list[int]:
            targets = []
            now_ms = self._clock.now_ms()
            for app_id, fingerprint in fingerprints:
                store.keep_apart(connection, number, app_id, fingerprint, names)
            for place, (value, _) in enumerate(parts[:MOST_VALUES]):
                target = issue.id if place == 0 else store.new_issue_like(connection, issue.id, now_ms)
                targets.append(target)
                shown = " / ".join(value)[:100]
                for app_id, fingerprint in fingerprints:
                    text = apart_text(fingerprint, value)
                    store.add_apart(
                        connection, number, app_id, fingerprint, text, target, f"kept apart by {by}: {shown}"
                    )
            return targets

        targets: list[int] = self._write(arrange)
        for target, (_, seqs) in zip(targets, parts, strict=False):
            if target != issue.id:
                self._move(number, [Move(seq, issue.id, target) for seq in seqs])
        self._sum_up(targets)

    def _split_out(self, number: int, issue: Issue, fingerprints: Sequence[str]) -> None:
        wanted = set(fingerprints)

        def arrange(connection: Any) -> int:
            target = store.new_issue_like(connection, issue.id, self._clock.now_ms())
            for fingerprint in fingerprints:
                store.lead(connection, number, issue.app_id, fingerprint, target, f"split out of issue {issue.id}")
            return target

        target: int = self._write(arrange)
        after = 0
        latest: dict[str, Any] | None = None
        while seqs := store.seqs_of(self._records.reader, issue.id, after, store.MOST_IN_ONE_STEP):
            after = seqs[-1]
            kept = store_issues.fingerprints_of_failures(self._records.reader, seqs)
            moves = [Move(seq, issue.id, target) for seq in seqs if kept.get(seq) in wanted]
            self._move(number, moves)
            if moves:
                latest = self._records.evidence.content(moves[-1].seq) or latest
        if latest is not None:
            _, headline = self._preparer.decided(latest, issue.app, "")
            self._write(lambda c: store.name_issue(c, target, headline.type, headline.cause, headline.place))
        self._sum_up([issue.id, target])

    def _regroup(self, number: int, about: dict[str, Any]) -> None:
        app_id: int = about["app_id"]
        plan = self._planner.plan(app_id, about["app"], most=None)
        touched: set[int] = set()
        for group, target in zip(plan.groups, plan.target, strict=True):
            goes_to = self._arrange(number, app_id, group, target)
            if self._rename(group, goes_to):
                touched.add(goes_to)
            moves = [Move(seq, issue, goes_to) for seq, issue in group.seqs if issue != goes_to]
            self._move(number, moves)
            if moves:
                touched |= {goes_to, *(move.from_issue for move in moves)}
        self._sum_up(sorted(touched))
        now_ms = self._clock.now_ms()
        for issue in touched:
            self._write(lambda c, issue=issue: note(c, issue, about["person_id"], about["said"], now_ms))  # type: ignore[misc]

    def _rename(self, group: Group, number: int) -> bool:
        """Set an issue's title from its failures; return whether it changed, as after frames were mapped back."""
        issue, headline = store_issues.issue(self._records.reader, number), group.headline
        if headline is None or (headline.type, headline.cause, headline.place) == (
            issue.type,
            issue.cause,
            issue.place,
        ):
            return False
        self._write(lambda c: store.name_issue(c, number, headline.type, headline.cause, headline.place))
        return True

    def _arrange(self, number: int, app_id: int, group: Group, target: int | None) -> int:

        def arrange(connection: Any) -> int:
            goes_to = target
            if goes_to is None:
                goes_to = store.new_issue_like(connection, next(iter(group.by_issue)), self._clock.now_ms())
                if group.headline is not None:
                    store.name_issue(
                        connection, goes_to, group.headline.type, group.headline.cause, group.headline.place
                    )
            for text, decided in group.fingerprints.items():
                found = store_grouping.FoundIssue(goes_to, text, known=False, joined="regrouped")
                store_grouping.add_fingerprint(connection, app_id, goes_to, decided, found)
                store.lead(connection, number, app_id, text, goes_to, "regrouped")
            return goes_to

        answer: int = self._write(arrange)
        return answer

    def _undo(self, number: int, about: dict[str, Any]) -> None:
        touched = store.touched_by(self._records.reader, number)
        led: list[tuple[str, int, int]] = self._write(lambda c: store.lead_back(c, number))
        after = 0
        while rows := store.moves_of(self._records.reader, number, after):
            self._move(number, [Move(row.seq, row.to_issue, row.from_issue) for row in rows], keep=False)
            after = rows[-1].seq
        for fingerprint, was, back in led:
            # Failures since then follow their fingerprint.
            # An issue that was merged into another leads back also where no failure had been moved yet.
            touched = [*touched, was, back]
            while was != back and (seqs := store.seqs_with(self._records.reader, was, fingerprint)):
                self._move(number, [Move(seq, was, back) for seq in seqs], keep=False)
        now_ms = self._clock.now_ms()

        def finish(connection: Any) -> None:
            for issue in sorted(set(touched)):
                store.merged_into(connection, issue, None)
                note(connection, issue, about["person_id"], f"{about['person']} undid regrouping {number}.", now_ms)

        self._write(finish)
        self._sum_up(sorted(set(touched)))
