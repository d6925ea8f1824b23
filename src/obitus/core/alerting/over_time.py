"""Amounts over time: windows made of slots, and what a rule would have done in some weeks."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Final

from obitus.core.alerting.amounts import (
    DAYS_BACK,
    Amount,
    Judged,
    Key,
    differ_by,
    earlier_windows,
    in_all,
    is_weekend,
    judge,
    stands_out,
)
from obitus.core.alerting.conditions import Measured, Silent
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS
from obitus.core.wording import span

HOURS_FROM_MS: Final = 6 * HOUR_MS
"""Windows from this length on are made of hours."""
LOOKS_UNTIL_OVER: Final = 2
"""A firing is over once its condition has not held this many times in a row, so that a value near its limit does not
fire again and again."""

Slots = Mapping[int, Amount]
"""Amounts by slot: the number of the slot since 1970."""


@dataclass(slots=True)
class Firing:
    """One firing of a rule, for one group."""

    key: Key
    begun_ms: int
    value: float | None
    limit: float | None
    reason: str
    worst: float | None
    over_ms: int | None = None
    missed: int = 0
    """How often in a row it has not held."""


def slot_ms_of(condition: Measured | Silent) -> int:
    """Return the length of the slots of a condition's windows."""
    if condition.window_ms >= HOURS_FROM_MS or (isinstance(condition, Measured) and condition.is_usual):
        return HOUR_MS
    by_five = isinstance(condition, Silent) or condition.source == "runs" or condition.measure == "per thousand"
    return (5 if by_five else 1) * MINUTE_MS


def window_slots(condition: Measured, now_ms: int, slot_ms: int) -> range:
    """Return the slots of the window that ends now. It is never longer than the window where the rule waits for too
    much, never shorter where it waits for too little."""
    last = now_ms // slot_ms
    count = condition.window_ms // slot_ms + (0 if condition.is_over else 1)
    return range(last - max(1, count) + 1, last + 1)


def window_amount(condition: Measured, slots: Slots, now_ms: int, slot_ms: int) -> Amount:
    """Return the amount of the window that ends now."""
    within = window_slots(condition, now_ms, slot_ms)
    return in_all((slots[slot] for slot in within if slot in slots), condition.stat)


def usual_windows(condition: Measured, now_ms: int) -> list[tuple[int, int]]:
    """Return the windows of whole hours that are compared with earlier days: the last one that is complete, and the one that has begun.

    Earlier days are counted by hours. The hour that has begun may already have more than a whole usual one; that it
    has little says nothing.
    """
    hour_ms = now_ms // HOUR_MS * HOUR_MS
    complete = (hour_ms - condition.window_ms, hour_ms)
    begun = (complete[0] + HOUR_MS, hour_ms + HOUR_MS)
    return [begun, complete] if condition.is_over else [complete]


def beside_usual(condition: Measured, hours: Slots, now_ms: int, since_ms: int, groups: int) -> Judged:
    """Judge the last windows of whole hours by the usual amounts, from amounts by the hour; the first that holds
    counts, else the last."""
    judged = Judged(False, None, None, "")
    for from_ms, to_ms in usual_windows(condition, now_ms):
        beside = _beside_earlier(condition, hours, from_ms, to_ms, since_ms, groups)
        judged = Judged(beside.holds, beside.value, beside.limit, beside.reason, (from_ms, min(to_ms, now_ms)))
        if judged.holds:
            break
    return judged


def _beside_earlier(condition: Measured, hours: Slots, from_ms: int, to_ms: int, since_ms: int, groups: int) -> Judged:
    """Judge a window by the usual amounts, then once more without the earlier windows in which the rule itself would
    have fired. Outliers are not usual, unless they are the majority.
    """
    amount = _between(condition, hours, from_ms, to_ms)
    windows = earlier_windows(to_ms, to_ms - from_ms, since_ms)
    differs = partial(_differs, condition, hours, from_ms, to_ms, since_ms)
    earlier = [_between(condition, hours, *window) for window in windows]
    judged = judge(condition, amount, earlier, groups, differs)
    if judged.holds or not stands_out(condition, amount, earlier):
        return judged
    alike = [
        one
        for window, one in zip(windows, earlier, strict=True)
        if not _stood_out(condition, hours, window, one, since_ms, groups)
    ]
    if len(alike) == len(earlier) or 2 * len(alike) < len(earlier):
        return judged
    return judge(condition, amount, alike, groups, differs)


def _stood_out(
    condition: Measured, hours: Slots, window: tuple[int, int], amount: Amount, since_ms: int, groups: int
) -> bool:
    """Whether the rule would have fired in an earlier window."""
    from_ms, to_ms = window
    earlier = [_between(condition, hours, *one) for one in earlier_windows(to_ms, to_ms - from_ms, since_ms)]
    if not stands_out(condition, amount, earlier):
        return False
    return judge(
        condition, amount, earlier, groups, partial(_differs, condition, hours, from_ms, to_ms, since_ms)
    ).holds


def _differs(condition: Measured, hours: Slots, from_ms: int, to_ms: int, since_ms: int) -> float:
    """Return how much windows of the last two weeks differ from those of the same hour of like days, whatever the hour."""
    window_ms, first_ms = to_ms - from_ms, max(since_ms, from_ms - DAYS_BACK * DAY_MS)
    like: dict[tuple[bool, int], list[tuple[float, float]]] = defaultdict(list)
    for end_ms in range(from_ms, first_ms + window_ms - 1, -window_ms):
        amount = _between(condition, hours, end_ms - window_ms, end_ms)
        exposed = 1 if condition.measure == "count" else amount.of
        like[is_weekend(end_ms), end_ms // HOUR_MS % 24].append((amount.n, exposed))
    return differ_by(like.values())


def _between(condition: Measured, hours: Slots, from_ms: int, to_ms: int) -> Amount:
    within = range(from_ms // HOUR_MS, to_ms // HOUR_MS)
    return in_all((hours[hour] for hour in within if hour in hours), condition.stat)


def would_have_fired(
    condition: Measured,
    by_key: Mapping[Key, Slots],
    hours: Mapping[Key, Slots],
    from_ms: int,
    to_ms: int,
    since_ms: int,
) -> list[Firing]:
    """Return the firings of a span, the earliest first: what a rule would have done, evaluated once in each slot.
    ``hours`` has amounts by the hour, for the usual; ``since_ms`` is when counting began.
    """
    slot_ms = slot_ms_of(condition)
    firings: list[Firing] = []
    keys = by_key if by_key or condition.by else {(): {}}
    for key, slots in keys.items():
        looked = ((now_ms, _judged(condition, slots, hours.get(key, {}), now_ms, since_ms, len(keys))) for now_ms in _looks(condition, slots, from_ms, to_ms, slot_ms))  # fmt: skip
        firings += firings_of(condition, key, looked)
    return sorted(firings, key=lambda firing: firing.begun_ms)


def _judged(condition: Measured, slots: Slots, hours: Slots, now_ms: int, since_ms: int, groups: int) -> Judged:
    if condition.is_usual:
        return beside_usual(condition, hours, now_ms, since_ms, groups)
    return judge(condition, window_amount(condition, slots, now_ms, slot_ms_of(condition)))


def _looks(condition: Measured, slots: Slots, from_ms: int, to_ms: int, slot_ms: int) -> Iterator[int]:
    """Yield the times of evaluation: the end of each slot. Where the rule waits for too much, only around slots with
    something in them."""
    first, end = from_ms // slot_ms, to_ms // slot_ms
    if not condition.is_over:
        yield from (slot * slot_ms + slot_ms - 1 for slot in range(first, end))
        return
    reach = condition.window_ms // slot_ms + LOOKS_UNTIL_OVER
    done = first
    for slot in sorted(slots):
        for near in range(max(done, slot), min(end, slot + reach + 1)):
            yield near * slot_ms + slot_ms - 1
            done = near + 1


def firings_of(condition: Measured, key: Key, looked: Iterator[tuple[int, Judged]]) -> list[Firing]:
    """Return the firings of one group from the judgements of its windows, in order."""
    firings: list[Firing] = []
    for now_ms, judged in looked:
        firing = firings[-1] if firings and firings[-1].over_ms is None else None
        if firing is not None:
            go_on(condition, firing, judged, now_ms)
        elif judged.holds:
            firings.append(Firing(key, now_ms, judged.value, judged.limit, judged.reason, judged.value))
    return firings


def go_on(condition: Measured, firing: Firing, judged: Judged, now_ms: int) -> None:
    """Continue a firing, or end it."""
    if judged.holds:
        firing.missed = 0
        if judged.value is not None:
            pick = max if condition.is_over else min
            firing.worst = judged.value if firing.worst is None else pick(firing.worst, judged.value)
        return
    firing.missed += 1
    if firing.missed >= LOOKS_UNTIL_OVER:
        firing.over_ms = now_ms


def stayed_away(condition: Silent, last_ms: Mapping[Key, int], now_ms: int) -> dict[Key, Judged]:
    """Return for each known group whether it has stayed away for the window; ``last_ms`` is when it came last."""
    stayed_away_by_key = {}
    for key, came_ms in last_ms.items():
        away_ms = now_ms - came_ms
        sentence = f"The last {'run began' if condition.source == 'runs' else 'report came'} {span(away_ms)} ago."
        stayed_away_by_key[key] = Judged(away_ms >= condition.window_ms, away_ms, condition.window_ms, sentence)
    return stayed_away_by_key


def would_have_missed(
    condition: Silent, by_key: Mapping[Key, list[int]], slot_ms: int, from_ms: int, to_ms: int
) -> list[Firing]:
    """Return when groups stayed away in a span: ``by_key`` has the slots in which each came, in order."""
    firings: list[Firing] = []
    for key, slots in by_key.items():
        ends: list[int | None] = [*(slot * slot_ms for slot in slots[1:]), None]
        for slot, next_ms in zip(slots, ends, strict=True):
            came_ms = (slot + 1) * slot_ms
            begun_ms = came_ms + condition.window_ms
            if (to_ms if next_ms is None else next_ms) >= begun_ms >= from_ms:
                away_ms = (to_ms if next_ms is None else next_ms) - came_ms
                firings.append(Firing(key, begun_ms, condition.window_ms, condition.window_ms, f"Nothing for {span(away_ms)}.", away_ms, next_ms))  # fmt: skip
    return sorted(firings, key=lambda firing: firing.begun_ms)


@dataclass(slots=True)
class AmountsByKey:
    """Amounts of all groups by slot."""

    by_key: dict[Key, dict[int, Amount]] = field(default_factory=lambda: defaultdict(dict))

    def add(self, key: Key, slot: int, amount: Amount, stat: str | None) -> None:
        """Add to the amount of a group in a slot."""
        slots = self.by_key[key]
        if slot in slots:
            slots[slot].add(amount, stat)
        else:
            slots[slot] = amount
