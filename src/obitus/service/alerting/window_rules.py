"""Rules over windows: new records are counted for each of them, and those that are due are evaluated. One thread,
with at most a tenth of one core."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Annotated, Any, Final

from obitus.core.alerting.amounts import Judged, Key, earlier_windows, judge, value_of
from obitus.core.alerting.conditions import Measured, Silent, interval_ms
from obitus.core.alerting.over_time import (
    LOOKS_UNTIL_OVER,
    AmountsByKey,
    beside_usual,
    slot_ms_of,
    stayed_away,
    usual_windows,
    window_amount,
    window_slots,
)
from obitus.core.asking.tree import All, Compare
from obitus.core.asking.writing import term
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.wording import span
from obitus.service.alerting.active_rules import ActiveRule, RuleBook, to_of, uids
from obitus.service.alerting.periodic import Turns
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.store.alerts import counting, firings, runs
from obitus.store.alerts.counting import CountedRule
from obitus.store.alerts.firings import Fired
from obitus.store.asking.compiling import Names
from obitus.store.asking.finding import names_in
from obitus.store.errors import StoreError, StoreTrouble
from obitus.store.records import Records
from obitus.store.rows.alerts import FiringRow

_log = logging.getLogger("obitus.service")

TURN_S: Final = 10.0
MOST_FIRINGS: Final = 50
"""Most groups for which one rule fires in one turn, those farthest over their limit first."""
SLOTS_SHOWN: Final = 40
KNOWN_MS: Final = 14 * DAY_MS
"""Groups that came within this time are expected to come again."""
KNOWN_FOR_S: Final = 300.0
PRUNE_EVERY_S: Final = 600.0


@dataclass(slots=True)
class _State:
    """The state of a rule between its evaluations."""

    due_ms: int = 0
    missed: dict[Key, int] = field(default_factory=dict)
    """How often in a row an open firing has not held."""
    took_s: float = 0.0
    looks: int = 0
    before: dict[Key, int] = field(default_factory=dict)
    before_s: float = -KNOWN_FOR_S


class Windows:
    """Counts and evaluates. ``look`` takes a turn at once, for callers that wait for it."""

    def __init__(self, records: Records, clock: Clock, book: RuleBook) -> None:
        self._records, self._clock, self._book = records, clock, book
        self._states: dict[int, _State] = {}
        self._turn = threading.Lock()
        self._prunes_next_s = 0.0
        self.spent_s, self.looks = 0.0, 0
        """CPU time in seconds of all turns, and the number of evaluations, since the start."""
        self._spent_last_s = 0.0
        self.turns = Turns(
            "obitus-alert-windows",
            self.look_when_due,
            # A tenth of one core at most.
            lambda: max(TURN_S, 9 * self._spent_last_s),
            waits="alert rules wait",
            broke="looking at alert rules failed",
        )

    def look(self) -> None:
        """Count new records, and evaluate every rule now."""
        with self._turn:
            self._take_turn(every=True)

    def cost_ms(self, rule_id: int) -> float | None:
        """Return the average time of an evaluation of a rule, in milliseconds; None before the first."""
        state = self._states.get(rule_id)
        return 1000 * state.took_s / state.looks if state is not None and state.looks else None

    def look_when_due(self) -> None:
        """Take a turn: count new records, and evaluate each rule that is due."""
        started_s = time.thread_time()
        try:
            with self._turn:
                self._take_turn()
        finally:
            self._spent_last_s = time.thread_time() - started_s
            self.spent_s += self._spent_last_s

    def _take_turn(self, *, every: bool = False) -> None:
        now_ms = self._clock.now_ms()
        rules = [rule for rule in self._book.rules() if isinstance(rule.condition, Measured | Silent)]
        self._states = {rule.row.id: self._states.get(rule.row.id, _State()) for rule in rules}
        if not rules:
            return
        names = names_in(self._records.reader)
        counted = {rule.row.id: counted_of(rule) for rule in rules}
        if self._count(rules, {number: rule for number, rule in counted.items() if rule is not None}, names, now_ms):
            # New counts have a beginning.
            rules = [rule for rule in self._book.rules() if rule.row.id in counted]
        open_ones: dict[int, dict[Key, FiringRow]] = {}
        for row in firings.open_ones(self._records.reader):
            open_ones.setdefault(row.rule_id, {})[firings.key_of(row)] = row
        for rule in rules:
            state = self._states[rule.row.id]
            if self.turns.stopping.is_set():
                return
            wait_ms = interval_ms(rule.condition) - 1000  # type: ignore[arg-type]
            # A clock that went back must not delay a rule.
            if every or not 0 < state.due_ms - now_ms <= wait_ms:
                state.due_ms = now_ms + wait_ms
                self._look_at(rule, counted[rule.row.id], state, open_ones.get(rule.row.id, {}), names, now_ms)
        self._prune([rule for rule in counted.values() if rule is not None], now_ms)

    def _count(self, rules: Sequence[ActiveRule], counted: dict[int, CountedRule], names: Names, now_ms: int) -> bool:
        """Count records since the last turn, and for new rules earlier records; return whether any rule is new."""
        reader, days, writer = self._records.reader, self._records.days, self._records.writer
        if not counted:
            return False
        at = counting.counted_to(reader)
        if not at:
            at = counting.start(days)
            writer.run(partial(counting.move, places=at))
        begun = [
            counted[rule_known.row.id]
            for rule_known in rules
            if rule_known.row.id in counted and rule_known.row.counted_from_ms is not None
        ]
        turn = counting.came_since(reader, days, names, begun, at, now_ms)
        if not turn.is_empty:
            writer.run(partial(counting.write, turn=turn))
            at |= turn.places
        begin = [
            counted[rule_known.row.id]
            for rule_known in rules
            if rule_known.row.id in counted and rule_known.row.counted_from_ms is None
        ]
        if begin:
            back, reached_ms = counting.counted_back(reader, days, names, begin, at, now_ms)
            for rule, amounts in back.values():
                from_ms = max(reached_ms, now_ms - rule.back_ms)
                writer.run(partial(counting.write_back, rule=rule, amounts=amounts, from_ms=from_ms))
            self._book.changed()
        return bool(begin)

    def _look_at(
        self,
        rule: ActiveRule,
        counted_rule: CountedRule | None,
        state: _State,
        open_ones: dict[Key, FiringRow],
        names: Names,
        now_ms: int,
    ) -> None:
        started_s = time.thread_time()
        condition = rule.condition
        try:
            if isinstance(condition, Silent):
                judged, series = self._stayed_away(condition, state, names, now_ms), AmountsByKey()
            else:
                assert isinstance(condition, Measured)
                since_ms = rule.row.counted_from_ms
                judged, series = look_at(
                    self._records, condition, counted_rule, names, now_ms, since_ms, set(open_ones)
                )
        except StoreTrouble:
            raise
        except StoreError as error:
            _log.warning("the alert rule %r cannot be looked at now: %s", rule.row.name, error)
            return
        self._note(rule, state, judged, series, open_ones, names, now_ms)
        state.took_s += time.thread_time() - started_s
        state.looks += 1
        self.looks += 1

    def _stayed_away(self, condition: Silent, state: _State, names: Names, now_ms: int) -> dict[Key, Judged]:
        last = runs.last_came(
            self._records.reader, condition, names, now_ms, self._known_since(condition, state, now_ms)
        )
        for key, came_ms in last.items():
            state.before[key] = max(came_ms, state.before.get(key, 0))
        came_ms_by_key = {key: came_ms for key, came_ms in state.before.items() if came_ms > now_ms - KNOWN_MS}
        state.before = came_ms_by_key
        return stayed_away(condition, came_ms_by_key, now_ms)

    def _known_since(self, condition: Silent, state: _State, now_ms: int) -> int:
        """Return from when on groups are searched: far back now and then, a window in between."""
        if time.monotonic() - state.before_s >= KNOWN_FOR_S:
            state.before_s = time.monotonic()
            return now_ms - KNOWN_MS
        return now_ms - condition.window_ms - HOUR_MS

    def _note(
        self,
        rule: ActiveRule,
        state: _State,
        judged_by_key: dict[Key, Judged],
        series: AmountsByKey,
        open_ones: dict[Key, FiringRow],
        names: Names,
        now_ms: int,
    ) -> None:
        """Begin, continue and end firings."""
        condition = rule.condition
        assert isinstance(condition, Measured | Silent)
        begins = [(key, judged) for key, judged in judged_by_key.items() if judged.holds and key not in open_ones]
        begins.sort(key=lambda one: one[1].value or 0, reverse=isinstance(condition, Silent) or condition.is_over)
        apps = {name: number for number, name in names.apps.items()} if begins else {}
        work: list[Any] = []
        for key, judged in begins[:MOST_FIRINGS]:
            fired = self._fired(rule, key, judged, series, apps, now_ms)
            work.append(
                lambda c, fired=fired: firings.begin(
                    c, rule.row, fired, to_of(rule.to, now_ms), self._book.silences(), uids(), now_ms
                )
            )
        for key, row in open_ones.items():
            judged = judged_by_key.get(key) or Judged(False, None, None, "")
            if judged.holds:
                state.missed.pop(key, None)
                worst = _worst(condition, row.worst, judged.value)
                if worst != row.worst:
                    work.append(
                        lambda c, row=row, worst=worst, key=key: firings.go_on(
                            c, row.id, worst, over_time_of(condition, series, key, now_ms)
                        )
                    )
                continue
            state.missed[key] = state.missed.get(key, 0) + 1
            if state.missed[key] >= LOOKS_UNTIL_OVER:
                state.missed.pop(key)
                work.append(
                    lambda c, row=row: firings.over(
                        c, row, now_ms, to_of([*rule.to, *rule.escalates_to], now_ms), uids(), now_ms
                    )
                )
        if work:
            self._records.writer.run(lambda c: [one(c) for one in work])

    def _fired(
        self, rule: ActiveRule, key: Key, judged: Judged, series: AmountsByKey, apps: Mapping[str, int], now_ms: int
    ) -> Fired:
        condition = rule.condition
        assert isinstance(condition, Measured | Silent)
        pinned = pinned_by(condition, key)
        issue_id = int(pinned["issue"]) if pinned.get("issue", "").isdigit() else None
        app = pinned.get("app")
        return Fired(
            key,
            now_ms,
            judged.reason,
            records_of(condition, key, now_ms, judged.window) | ({"app": app} if app else {}),
            issue_id=issue_id,
            app_id=apps.get(app) if app else self._app_of(issue_id),
            app=app,
            environment=pinned.get("environment", ""),
            value=judged.value,
            bound=judged.limit,
            over_time=over_time_of(condition, series, key, now_ms),
        )

    def _app_of(self, issue_id: int | None) -> int | None:
        app_ids = [] if issue_id is None else self._records.reader.column(int, _APP_OF, (issue_id,))
        return app_ids[0] if app_ids else None

    def _prune(self, counted: Sequence[CountedRule], now_ms: int) -> None:
        if time.monotonic() < self._prunes_next_s:
            return
        self._prunes_next_s = time.monotonic() + PRUNE_EVERY_S
        for rule in counted:
            while (
                self._records.writer.run(partial(counting.prune, rule=rule, now_ms=now_ms))
                and not self.turns.stopping.is_set()
            ):
                pass


_APP_OF: Final = "SELECT app_id FROM issues WHERE id = ?"
_FIRST: Final = "SELECT COALESCE(MIN(earliest_ms), 0) FROM days WHERE reports > 0 AND day > 0"


def counted_of(rule: ActiveRule) -> CountedRule | None:
    """Return a rule for counting; None where its records are counted anyway."""
    condition = rule.condition
    if isinstance(condition, Measured) and condition.source != "runs":
        return CountedRule(rule.row.id, rule.row.changed_ms, condition)
    return None


def look_at(
    records: Records,
    condition: Measured,
    rule: CountedRule | None,
    names: Names,
    now_ms: int,
    since_ms: int | None,
    also: set[Key],
) -> tuple[dict[Key, Judged], AmountsByKey]:
    """Return the judgement of the window that ends now, for each group, and the values before it. ``also`` are
    groups to be judged even without records.
    """
    slot_ms = slot_ms_of(condition)
    within = window_slots(condition, now_ms, slot_ms)
    if condition.is_usual:
        within = range(min(start_ms for start_ms, _ in usual_windows(condition, now_ms)) // slot_ms, within[-1] + 1)
    back = max(len(within), SLOTS_SHOWN if slot_ms < HOUR_MS else len(within)) + HOUR_MS // slot_ms
    first, last = within[-1] - back, within[-1]
    series = amounts_in(records, condition, rule, names, range(first, last + 1), slot_ms)
    keys = set(series.by_key) | also | (set() if condition.by else {()})
    if condition.is_over:
        # Groups without records in the window are over no limit.
        keys = {key for key in keys if key in also or any(slot in series.by_key.get(key, {}) for slot in within)} | (
            set() if condition.by else {()}
        )
    if condition.is_usual:
        return _beside_usual(records, condition, rule, names, now_ms, since_ms, keys), series
    found = {
        key: judge(condition, window_amount(condition, series.by_key.get(key, {}), now_ms, slot_ms)) for key in keys
    }
    return found, series


def _beside_usual(
    records: Records,
    condition: Measured,
    rule: CountedRule | None,
    names: Names,
    now_ms: int,
    since_ms: int | None,
    keys: set[Key],
) -> dict[Key, Judged]:
    # Times before the first report have no usual amounts.
    first_ms = records.reader.value(int, _FIRST)
    # Hours are kept for five weeks.
    counted_since_ms = max(
        first_ms, 0 if rule is None or since_ms is None else since_ms, now_ms - counting.HOURS_KEPT_MS + DAY_MS
    )
    windows = usual_windows(condition, now_ms)
    earlier = [
        earlier_window
        for start_ms, end_ms in windows
        for earlier_window in earlier_windows(end_ms, end_ms - start_ms, counted_since_ms)
    ]
    # The usual amounts of then, for windows that may have been outliers themselves.
    before = [
        earlier_window
        for start_ms, end_ms in earlier
        for earlier_window in earlier_windows(end_ms, end_ms - start_ms, counted_since_ms)
    ]
    wanted = {
        hour
        for start_ms, end_ms in (*windows, *earlier, *before)
        for hour in range(start_ms // HOUR_MS, end_ms // HOUR_MS)
    }
    hours = amounts_in(records, condition, rule, names, sorted(wanted), HOUR_MS)
    return {
        key: beside_usual(condition, hours.by_key.get(key, {}), now_ms, counted_since_ms, len(keys)) for key in keys
    }


def amounts_in(
    records: Records, condition: Measured, rule: CountedRule | None, names: Names, slots: Sequence[int], slot_ms: int
) -> AmountsByKey:
    """Return the amounts of a condition in some slots, from the counts."""
    if not slots:
        return AmountsByKey()
    if rule is None:
        return runs.amounts_in(records.reader, condition, names, slots, slot_ms)
    minutes = 60 if slot_ms == HOUR_MS else 1
    if slot_ms == HOUR_MS and not rule.wants_hours:
        minutes = 1
    amounts = counting.amounts_of(records.reader, rule, minutes, slots[0], slots[-1], slot_ms)
    if condition.measure == "per thousand":
        beside = runs.amounts_in(records.reader, condition, names, slots, slot_ms)
        for key, by_slot in beside.by_key.items():
            for slot, amount in by_slot.items():
                amounts.add(key, slot, amount, None)
    return amounts


def pinned_by(condition: Measured | Silent, key: Key) -> dict[str, str]:
    """Return the fields with known values: those of the group, and those that the question requires exactly."""
    pinned: dict[str, str] = {}
    node = condition.node
    for needed in node.parts if isinstance(node, All) else (node,):
        if isinstance(needed, Compare) and needed.op == "=" and needed.text:
            pinned[needed.field] = needed.text
    return pinned | {name: value for name, value in zip(condition.by, key, strict=False) if value and value != "…"}


def records_of(
    condition: Measured | Silent, key: Key, now_ms: int, window: tuple[int, int] | None = None
) -> dict[str, Any]:
    """Return the search for the records that caused a firing: the question, the group, and the window."""
    grouped = [
        term(name, "=", value)
        for name, value in zip(condition.by, key, strict=False)
        if name != "issue" and value != "…"
    ]
    asked = [f"({condition.where})" if " or " in condition.where.lower() else condition.where, *grouped]
    if isinstance(condition, Measured) and condition.measure in ("failed", "refused"):
        asked.append(f"outcome={condition.measure}")
    if isinstance(condition, Silent):
        kind, from_ms = "runs", now_ms - 2 * condition.window_ms
    else:
        slot_ms = slot_ms_of(condition)
        kind, from_ms = condition.source, window_slots(condition, now_ms, slot_ms)[0] * slot_ms
    if window is not None:
        from_ms, now_ms = window
    found = {
        "kind": kind,
        "question": " ".join(part for part in asked if part),
        "start": to_text(from_ms),
        "end": to_text(now_ms + 1),
    }
    issue = dict(zip(condition.by, key, strict=False)).get("issue")
    return found | ({"kind": "issue", "issue": int(issue)} if issue and issue.isdigit() else {})


def over_time_of(condition: Measured | Silent, series: AmountsByKey, key: Key, now_ms: int) -> list[float]:
    """Return the values of the slots before now, for a chart."""
    if isinstance(condition, Silent):
        return []
    slots, slot_ms = series.by_key.get(key, {}), slot_ms_of(condition)
    last = now_ms // slot_ms
    values = [
        value_of(condition, slots[slot]) if slot in slots else 0 for slot in range(last - SLOTS_SHOWN + 1, last + 1)
    ]
    return [round(value or 0, 4) for value in values]


def _worst(condition: Measured | Silent, worst: float | None, value: float | None) -> float | None:
    if value is None or worst is None:
        return value if worst is None else worst
    is_over = isinstance(condition, Silent) or condition.is_over
    return (max if is_over else min)(worst, value)


def every_said(condition: Measured | Silent) -> str:
    """Write how often a condition is evaluated."""
    return f"every {span(interval_ms(condition))}"


TheWindows = Annotated[Windows, part("alert_windows")]
