"""Previews of merging, splitting and regrouping on the real history. Nothing here writes."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import tee
from typing import Annotated, Any, Final

from obitus.core.grouping.groups import Groups
from obitus.core.grouping.rules import GroupingRule, holds_for
from obitus.core.headline import Headline
from obitus.service.dependencies import part
from obitus.service.intake.chains import asked_about, chain_of
from obitus.service.intake.prepare import Preparer
from obitus.store import grouping as store_grouping
from obitus.store import regrouping as store
from obitus.store.grouping import Decided
from obitus.store.records import Records
from obitus.store.rows.grouping import FailureToRegroup
from obitus.store.rows.issues import Issue

MOST_LOOKED_AT: Final = 2000
MOST_SHOWN: Final = 20


@dataclass
class Group:
    """Failures that would be one issue: counts by their present issue, and the title."""

    by_issue: Counter[int] = field(default_factory=Counter)
    seqs: list[tuple[int, int]] = field(default_factory=list)
    headline: Headline | None = None
    message: str = ""
    fingerprints: dict[str, Decided] = field(default_factory=dict)


@dataclass(frozen=True)
class Plan:
    """The preview of a regrouping: groups, the number of failures, and the issue of each group."""

    groups: list[Group]
    looked_at: int
    target: list[int | None]
    """For each group the issue that it becomes; None for a new one."""
    matching: int = 0
    """The number of failures that match the last rule's condition."""

    @property
    def moving(self) -> int:
        """How many failures would change their issue."""
        return sum(
            sum(n for issue, n in g.by_issue.items() if issue != t)
            for g, t in zip(self.groups, self.target, strict=True)
        )


class Planner:
    """Groups past failures by the present recipe and rules, or by other rules."""

    def __init__(self, records: Records, preparer: Preparer) -> None:
        self._records, self._preparer = records, preparer

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
        planned = list(groups.values())
        return Plan(planned, looked_at, _targets(planned, store_grouping.never_pairs(self._records.reader)), matching)

    def _history(self, app_id: int, most: int | None) -> Iterator[tuple[FailureToRegroup, dict[str, Any]]]:
        history, again = tee(store.history(self._records.reader, app_id, most))
        contents = self._records.evidence.contents(row.seq for row in again)
        for row, content in zip(history, contents, strict=True):
            # Failures without evidence stay where they are.
            if content is not None:
                yield row, content

    def split_values(
        self, issue: Issue, names: Sequence[str], most: int = MOST_LOOKED_AT
    ) -> dict[tuple[str, ...], list[int]]:
        """Return an issue's latest failures by the values of these attributes."""
        failures_by_values: dict[tuple[str, ...], list[int]] = defaultdict(list)
        latest = store.latest_of(self._records.reader, issue.id, most)
        contents = self._records.evidence.contents(row.seq for row in latest)
        for row, content in zip(latest, contents, strict=True):
            if content is None:
                continue
            decided, _ = self._preparer.decided(content, issue.app, row.environment)
            failures_by_values[tuple(decided.further.value_of(name) for name in names)].append(row.seq)
        return failures_by_values


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
            # Issues that people keep apart stay where they are.
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


ThePlanner = Annotated[Planner, part("planner")]
