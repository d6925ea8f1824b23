"""What a rule would have done in the last fourteen days, and what it costs, before it is kept."""

from __future__ import annotations

import time
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Final

from obitus.core.alerting.conditions import Condition, Happens, Measured, Silent
from obitus.core.alerting.over_time import (
    AmountsByKey,
    Firing,
    slot_ms_of,
    would_have_fired,
    would_have_missed,
)
from obitus.core.asking import holds
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS, to_text
from obitus.core.headline import Headline
from obitus.core.wording import minute_of
from obitus.service.alerting.event_rules import TEXTS, occasions_between
from obitus.service.alerting.window_rules import look_at
from obitus.store import issues as issue_store
from obitus.store.alerts import counting, runs
from obitus.store.alerts.counting import CountedRule
from obitus.store.asking.finding import names_in
from obitus.store.calling import SLOTS_KEPT_MS
from obitus.store.records import Records

BACK_MS: Final = 14 * DAY_MS
MOST_SHOWN: Final = 50
LIMIT_S: Final = 8.0


@dataclass(slots=True)
class Preview:
    """The firings that the rule would have had, the latest first, and its cost."""

    firings: list[Firing] = field(default_factory=list)
    since_ms: int = 0
    """How far back the records go."""
    remark: str = ""
    cost_ms: float = 0.0
    """The cost of one evaluation."""
    now: str = ""
    """Its message as of now."""


def preview_of(records: Records, condition: Condition, now_ms: int) -> Preview:
    """Return the preview of a condition."""
    preview = Preview(since_ms=now_ms - BACK_MS)
    started_s = time.thread_time()
    if isinstance(condition, Happens):
        _happened(records, condition, preview, now_ms)
        preview.cost_ms = 1000 * (time.thread_time() - started_s) / max(1, len(preview.firings))
        return preview
    if isinstance(condition, Silent):
        _stayed_away(records, condition, preview, now_ms)
    else:
        _measured(records, condition, preview, now_ms)
        started_s = time.thread_time()
        rule = None if condition.source == "runs" else CountedRule(0, 0, condition)
        judged, _ = look_at(records, condition, rule, names_in(records.reader), now_ms, preview.since_ms, set())
        preview.cost_ms = 1000 * (time.thread_time() - started_s)
        if rule is None:
            preview.now = "; ".join(f"{', '.join(key) or 'now'}: {one.reason}" for key, one in list(judged.items())[:3])
    preview.firings.sort(key=lambda one: one.begun_ms, reverse=True)
    _name_issues(records, condition, preview)
    return preview


def _name_issues(records: Records, condition: Measured | Silent, preview: Preview) -> None:
    """Add the titles of issues, where groups are issues."""
    if "issue" not in condition.by:
        return
    at = condition.by.index("issue")
    numbers = {int(firing.key[at]) for firing in preview.firings[:MOST_SHOWN] if firing.key[at].isdigit()}
    titles = {
        str(issue.id): Headline(issue.type, issue.cause, issue.place).title
        for issue in issue_store.numbered(records.reader, sorted(numbers))
    }
    for firing in preview.firings:
        name = f"{firing.key[at]} {titles[firing.key[at]]}" if firing.key[at] in titles else firing.key[at]
        firing.key = (*firing.key[:at], name, *firing.key[at + 1 :])


def _happened(records: Records, condition: Happens, preview: Preview, now_ms: int) -> None:
    for occasion in occasions_between(records, now_ms - BACK_MS, now_ms + 1, frozenset(condition.kinds)):
        if condition.node is not None and not holds(condition.node, occasion.facts, TEXTS):
            continue
        issue = occasion.issue
        title = (
            occasion.subject if issue is None else f"{issue.id} {Headline(issue.type, issue.cause, issue.place).title}"
        )
        preview.firings.append(Firing((title,), occasion.time_ms, None, None, occasion.reason, None, occasion.time_ms))
    preview.firings.sort(key=lambda one: one.begun_ms, reverse=True)
    if condition.node is not None:
        preview.remark = "Asked of issues as they are now: how many people and failures there were then is not known."


def _stayed_away(records: Records, condition: Silent, preview: Preview, now_ms: int) -> None:
    if condition.source == "reports":
        preview.remark = "When each app reported in the past is not kept: it is known from now on."
        return
    started_s = time.thread_time()
    minutes = 60
    by_key = runs.slots_of(records.reader, condition, names_in(records.reader), minutes, now_ms - BACK_MS, now_ms)
    preview.firings = would_have_missed(condition, by_key, minutes * MINUTE_MS, now_ms - BACK_MS, now_ms)
    preview.cost_ms = 1000 * (time.thread_time() - started_s)
    if condition.window_ms < 2 * HOUR_MS:
        preview.remark = "Past runs are known by the hour: shorter silences are not seen here."


def _measured(records: Records, condition: Measured, preview: Preview, now_ms: int) -> None:
    names, slot_ms = names_in(records.reader), slot_ms_of(condition)
    from_ms = now_ms - BACK_MS
    if condition.source == "runs":
        if slot_ms < HOUR_MS and now_ms - from_ms > SLOTS_KEPT_MS:
            preview.since_ms = now_ms - SLOTS_KEPT_MS
            preview.remark = f"Runs are kept by five minutes since {minute_of(to_text(preview.since_ms))} UTC: before that, it is not known."
        by_slot = _runs(records, condition, preview.since_ms, now_ms, slot_ms)
        hours = _runs(records, condition, from_ms, now_ms, HOUR_MS) if condition.is_usual else AmountsByKey()
        since_ms = _first_ms(hours, from_ms)
    else:
        by_slot, reached_ms = counting.amounts_between(
            records.reader, records.days, names, condition, from_ms, now_ms + 1, slot_ms, limit_s=LIMIT_S
        )
        if condition.measure == "per thousand":
            _beside(
                records,
                condition,
                by_slot,
                max(reached_ms, now_ms - SLOTS_KEPT_MS if slot_ms < HOUR_MS else 0),
                now_ms,
                slot_ms,
            )
        if reached_ms > from_ms:
            preview.since_ms = reached_ms
            preview.remark = f"Looking further back than {minute_of(to_text(reached_ms))} UTC takes too long."
        hours = folded(by_slot, condition, slot_ms) if condition.is_usual else AmountsByKey()
        since_ms = max(reached_ms, _first_ms(hours, from_ms))
    preview.firings = would_have_fired(condition, by_slot.by_key, hours.by_key, preview.since_ms, now_ms, since_ms)


def _runs(records: Records, condition: Measured, from_ms: int, to_ms: int, slot_ms: int) -> AmountsByKey:
    slots = range(from_ms // slot_ms, to_ms // slot_ms + 1)
    return runs.amounts_in(records.reader, condition, names_in(records.reader), slots, slot_ms)


def _beside(
    records: Records, condition: Measured, series: AmountsByKey, from_ms: int, to_ms: int, slot_ms: int
) -> None:
    for key, slots in _runs(records, condition, from_ms, to_ms, slot_ms).by_key.items():
        for slot, amount in slots.items():
            series.add(key, slot, amount, None)


def folded(series: AmountsByKey, condition: Measured, slot_ms: int) -> AmountsByKey:
    """Return amounts by the hour."""
    if slot_ms >= HOUR_MS:
        return series
    amounts, each = AmountsByKey(), HOUR_MS // slot_ms
    for key, slots in series.by_key.items():
        for slot, amount in slots.items():
            whole = amounts.by_key[key].get(slot // each)
            if whole is None:
                amounts.by_key[key][slot // each] = deepcopy(amount)
            else:
                whole.add(amount, condition.stat)
    return amounts


def _first_ms(hours: AmountsByKey, from_ms: int) -> int:
    """Return since when there are any counts."""
    return min((slot * HOUR_MS for slots in hours.by_key.values() for slot in slots), default=from_ms)
