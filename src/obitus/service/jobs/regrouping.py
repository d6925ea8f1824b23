"""Merging, splitting and regrouping: first a preview on the real history, then a job whose progress shows, then perhaps undo."""

from __future__ import annotations

import logging
import threading
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import tee
from typing import Annotated, Any, Final

from obitus.core.grouping.groups import Groups
from obitus.core.grouping.rules import GroupingRule, holds_for
from obitus.core.headline import Headline
from obitus.core.wording import count_of
from obitus.service.clock import Clock
from obitus.service.given import part
from obitus.service.intake.prepare import Preparer, asked_about, chain_of
from obitus.store import events
from obitus.store import grouping as store_grouping
from obitus.store import issues as store_issues
from obitus.store import regrouping as store
from obitus.store.grouping import Decided, apart_text
from obitus.store.issues import note
from obitus.store.records import Records
from obitus.store.regrouping import Move
from obitus.store.rows import FailureToRegroup, Issue

_log = logging.getLogger("obitus.service")
MOST_LOOKED_AT: Final = 2000
MOST_SHOWN: Final = 20
MOST_VALUES: Final = 50


@dataclass
class Group:
    """Failures that would be one issue: how many came from which issue now, and what they are called."""

    by_issue: Counter[int] = field(default_factory=Counter)
    seqs: list[tuple[int, int]] = field(default_factory=list)
    headline: Headline | None = None
    message: str = ""
    fingerprints: dict[str, Decided] = field(default_factory=dict)


@dataclass(frozen=True)
class Plan:
    """What a regrouping would do: groups, how many failures were looked at, and which issue each group goes to."""

    groups: list[Group]
    looked_at: int
    target: list[int | None]
    """For each group the issue that it becomes; None stands for a new one."""
    matching: int = 0
    """How many failures the last rule's condition holds for."""

    @property
    def moving(self) -> int:
        """How many failures would change their issue."""
        return sum(
            sum(n for issue, n in g.by_issue.items() if issue != t)
            for g, t in zip(self.groups, self.target, strict=True)
        )


class _Stopping(Exception):
    """The service stops in the middle of a regrouping."""


class Regrouper:
    """Plans and carries out regroupings, one at a time, in a thread of its own."""

    def __init__(self, records: Records, clock: Clock, preparer: Preparer) -> None:
        self._records, self._clock, self._preparer = records, clock, preparer
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="obitus-regroup")
        self._latest: Future[None] | None = None
        self._stopping = threading.Event()
        for row in store.unfinished(self._records.reader):
            # A kill or a stop came in between: half of it is nobody's wish, so it goes back.
            self.undo(row.id, row.person_id, "the next start")

    def _start(self, number: int, act: Callable[[], None], state: str = "done") -> None:
        self._latest = self._pool.submit(self._guarded, number, act, state)

    @property
    def is_idle(self) -> bool:
        """Whether nothing is being moved."""
        return self._latest is None or self._latest.done()

    def close(self) -> None:
        """Stop after the step that is under way; the next start brings back what was moved."""
        self._stopping.set()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def plan(
        self, app_id: int, app: str, rules: Sequence[GroupingRule] | None = None, most: int | None = MOST_LOOKED_AT
    ) -> Plan:
        """Regroup an app's past failures (the latest ``most`` failures) under these rules, or the active ones."""
        preparer = self._preparer if rules is None else self._preparer.with_rules(rules)
        groups: dict[int, Group] = {}
        together = Groups()
        looked_at = matching = 0
        for row, content in self._history(app_id, most):
            looked_at += 1
            if rules and _matches(rules[-1], content, app, row.environment):
                matching += 1
            decided, headline = preparer.decided(content, app, row.environment)
            number, _ = together.place(decided.fingerprint, decided.traits)
            group = groups.setdefault(number, Group())
            group.by_issue[row.issue_id] += 1
            group.seqs.append((row.seq, row.issue_id))
            group.fingerprints.setdefault(decided.fingerprint, decided)
            if group.headline is None:
                group.headline = headline
                group.message = str(content["exceptions"][0].get("message", ""))[:200]
        found = list(groups.values())
        return Plan(found, looked_at, _targets(found, store_grouping.never_pairs(self._records.reader)), matching)

    def _history(self, app_id: int, most: int | None) -> Iterator[tuple[FailureToRegroup, dict[str, Any]]]:
        history, again = tee(store.history(self._records.reader, app_id, most))
        contents = self._records.evidence.contents(row.seq for row in again)
        for row, content in zip(history, contents, strict=True):
            # Of what is no longer kept nothing can be said: it stays where it is.
            if content is not None:
                yield row, content

    def split_values(
        self, issue: Issue, names: Sequence[str], most: int = MOST_LOOKED_AT
    ) -> dict[tuple[str, ...], list[int]]:
        """Return an issue's latest failures by the values of these attributes."""
        found: dict[tuple[str, ...], list[int]] = defaultdict(list)
        latest = store.latest_of(self._records.reader, issue.id, most)
        contents = self._records.evidence.contents(row.seq for row in latest)
        for row, content in zip(latest, contents, strict=True):
            if content is None:
                continue
            decided, _ = self._preparer.decided(content, issue.app, row.environment)
            found[tuple(decided.further.value_of(name) for name in names)].append(row.seq)
        return found

    def merge(self, issue: Issue, into: Issue, person_id: int, person: str) -> int:
        """Move all failures of an issue to another, and let its fingerprints lead there."""
        now_ms = self._clock.now_ms()
        said = f"{person} merged issue {issue.id} into issue {into.id}."

        def begin(connection: Any) -> int:
            number = store.begin(connection, "merge", said, person_id, issue.failures_in_all, now_ms)
            store.lead_all(connection, number, issue.id, into.id, f"{person} merged it")
            store.merged_into(connection, issue.id, into.id)
            for one in (issue.id, into.id):
                note(connection, one, person_id, said, now_ms)
            return number

        number: int = self._records.writer.run(begin)
        self._start(number, lambda: self._move_all(number, issue.id, into.id))
        return number

    def split(
        self, issue: Issue, names: Sequence[str], fingerprints: Sequence[str], person_id: int, person: str
    ) -> int:
        """Part an issue: by the values of attributes, or by taking some of its fingerprints out."""
        how = f"by {', '.join(names)}" if names else f"by {count_of(len(fingerprints), 'fingerprint')}"
        said = f"{person} split issue {issue.id} {how}."
        now_ms = self._clock.now_ms()

        def begin(connection: Any) -> int:
            number = store.begin(connection, "split", said, person_id, issue.failures_in_all, now_ms)
            note(connection, issue.id, person_id, said, now_ms)
            return number

        number: int = self._records.writer.run(begin)
        act = (
            (lambda: self._split_by_values(number, issue, names))
            if names
            else (lambda: self._split_out(number, issue, fingerprints))
        )
        self._start(number, act)
        return number

    def regroup(self, app_id: int, app: str, person_id: int, person: str) -> int:
        """Regroup all past failures of an app with the recipe and the active rules."""
        total = store.failures_of_app(self._records.reader, app_id)
        now_ms = self._clock.now_ms()
        said = f"{person} regrouped the history of {app}."
        number: int = self._records.writer.run(lambda c: store.begin(c, "regroup", said, person_id, total, now_ms))
        self._start(number, lambda: self._regroup(number, app_id, app, person_id, said))
        return number

    def undo(self, number: int, person_id: int, person: str) -> None:
        """Bring back what a regrouping moved, and what came since by the fingerprints that it led elsewhere."""
        now_ms = self._clock.now_ms()
        self._records.writer.run(lambda c: store.end(c, number, "undoing", now_ms))
        self._start(number, lambda: self._undo(number, person_id, person), "undone")

    def _guarded(self, number: int, act: Any, state: str = "done") -> None:
        try:
            act()
        except _Stopping:
            return
        except Exception:
            _log.exception("regrouping %d broke; what it moved can be undone", number)
            state = "failed"
        now_ms = self._clock.now_ms()

        def end(connection: Any) -> None:
            store.end(connection, number, state, now_ms)
            events.add(connection, "regrouping", now_ms, regrouping=number, state=state)

        self._records.writer.run(end)

    def _move_all(self, number: int, from_issue: int, to_issue: int) -> None:
        while seqs := store.seqs_of(self._records.reader, from_issue, 0, store.MOST_IN_ONE_STEP):
            self._move(number, [Move(seq, from_issue, to_issue) for seq in seqs])
        self._sum_up([from_issue, to_issue])

    def _move(self, number: int, moves: list[Move], *, keep: bool = True) -> None:
        for start in range(0, len(moves), store.MOST_IN_ONE_STEP):
            if self._stopping.is_set():
                raise _Stopping
            step = moves[start : start + store.MOST_IN_ONE_STEP]
            self._records.writer.run(lambda c, step=step: store.move(c, number, step, keep=keep))  # type: ignore[misc]

    def _sum_up(self, issues: Sequence[int]) -> None:
        now_ms = self._clock.now_ms()

        def sum_up(connection: Any) -> None:
            store.sum_up(connection, issues)
            for issue in issues:
                events.add(connection, "issue-changed", now_ms, issue=issue)

        self._records.writer.run(sum_up)

    def _split_by_values(self, number: int, issue: Issue, names: Sequence[str]) -> None:
        values = self.split_values(issue, names, most=10_000_000)
        # The largest part stays; the others become issues of their own.
        parts = sorted(values.items(), key=lambda part: (-len(part[1]), part[0]))
        fingerprints = [(row.app_id, row.fingerprint) for row in store.fingerprints_of(self._records.reader, issue.id)]
        said = ", ".join(names)

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
                        connection, number, app_id, fingerprint, text, target, f"kept apart by {said}: {shown}"
                    )
            return targets

        targets: list[int] = self._records.writer.run(arrange)
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

        target: int = self._records.writer.run(arrange)
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
            self._records.writer.run(
                lambda c: store.name_issue(c, target, headline.type, headline.cause, headline.place)
            )
        self._sum_up([issue.id, target])

    def _regroup(self, number: int, app_id: int, app: str, person_id: int, said: str) -> None:
        plan = self.plan(app_id, app, most=None)
        touched: set[int] = set()
        for group, target in zip(plan.groups, plan.target, strict=True):
            goes_to = self._arrange(number, app_id, group, target)
            moves = [Move(seq, issue, goes_to) for seq, issue in group.seqs if issue != goes_to]
            self._move(number, moves)
            if moves:
                touched |= {goes_to, *(move.from_issue for move in moves)}
        self._sum_up(sorted(touched))
        now_ms = self._clock.now_ms()
        for issue in touched:
            self._records.writer.run(lambda c, issue=issue: note(c, issue, person_id, said, now_ms))  # type: ignore[misc]

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
                found = store_grouping.Found(goes_to, text, known=False, joined="regrouped")
                store_grouping.add_fingerprint(connection, app_id, goes_to, decided, found)
                store.lead(connection, number, app_id, text, goes_to, "regrouped")
            return goes_to

        answer: int = self._records.writer.run(arrange)
        return answer

    def _undo(self, number: int, person_id: int, person: str) -> None:
        touched = store.touched_by(self._records.reader, number)
        led: list[tuple[str, int, int]] = self._records.writer.run(lambda c: store.lead_back(c, number))
        after = 0
        while rows := store.moves_of(self._records.reader, number, after):
            self._move(number, [Move(row.seq, row.to_issue, row.from_issue) for row in rows], keep=False)
            after = rows[-1].seq
        for fingerprint, was, back in led:
            # What came since then follows its fingerprint.
            # An issue that was merged into another leads back also where no failure had been moved yet.
            touched = [*touched, was, back]
            while was != back and (seqs := store.seqs_with(self._records.reader, was, fingerprint)):
                self._move(number, [Move(seq, was, back) for seq in seqs], keep=False)
        now_ms = self._clock.now_ms()

        def finish(connection: Any) -> None:
            for issue in sorted(set(touched)):
                store.merged_into(connection, issue, None)
                note(connection, issue, person_id, f"{person} undid regrouping {number}.", now_ms)

        self._records.writer.run(finish)
        self._sum_up(sorted(set(touched)))


def _matches(rule: GroupingRule, content: dict[str, Any], app: str, environment: str) -> bool:
    return rule.condition is None or holds_for(rule, asked_about(content, chain_of(content), app, environment))


def _targets(groups: list[Group], never: set[tuple[int, int]]) -> list[int | None]:
    """Give each group the issue that most of its failures are in; an issue goes to one group only, the one with most of it."""
    wishes = sorted(
        ((count, -issue, place) for place, group in enumerate(groups) for issue, count in group.by_issue.items()),
        reverse=True,
    )
    target: list[int | None] = [None] * len(groups)
    taken: set[int] = set()
    for _, minus, place in wishes:
        issue = -minus
        if target[place] is None and issue not in taken:
            target[place] = issue
            taken.add(issue)
    for place, group in enumerate(groups):
        goes_to = target[place]
        if goes_to is not None:
            # What people said is never one stays where it is.
            apart = {i for i in group.by_issue if (min(i, goes_to), max(i, goes_to)) in never}
            group.seqs = [(seq, issue) for seq, issue in group.seqs if issue not in apart]
            for issue in apart:
                del group.by_issue[issue]
    return target


def joins_of(plan: Plan) -> list[tuple[Group, int | None]]:
    """Return the groups that several issues would join, the largest first."""
    found = [(g, t) for g, t in zip(plan.groups, plan.target, strict=True) if len(g.by_issue) > 1]
    return sorted(found, key=lambda one: -sum(one[0].by_issue.values()))[:MOST_SHOWN]


def parts_of(plan: Plan) -> dict[int, list[Group]]:
    """Return the issues that would be split off, with the groups that their failures would go to."""
    spread: dict[int, list[Group]] = defaultdict(list)
    for group in plan.groups:
        for issue in group.by_issue:
            spread[issue].append(group)
    return dict([(issue, groups) for issue, groups in sorted(spread.items()) if len(groups) > 1][:MOST_SHOWN])


TheRegrouper = Annotated[Regrouper, part("regrouper")]
