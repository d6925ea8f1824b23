"""What happens when a line with a tracepoint runs: checking the condition and the budget, and capturing the hit.

Runs on the app's threads, in the middle of the app's code, also inside of signal handlers and finalizers: nothing here takes
a lock, calls into the app or raises into it.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import count
from time import perf_counter_ns
from types import FrameType
from typing import Any, Final

from obitus.client import runs, state
from obitus.client.base import Base
from obitus.client.capture import Capture
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import is_ours
from obitus.client.open_runs import OpenRuns
from obitus.client.values import show
from obitus.core.bounds import long, short
from obitus.core.redaction import mark
from obitus.core.tracepoints import Evaluated, NoValue, TracepointOrder, compiled, holds, template_of, words_of

BURST_NS: Final = 50_000_000
"""What they may cost above that share at once, in nanoseconds of work."""
OVERHEAD_NS: Final = 150
"""The interpreter's own time for calling back, which is not measured here."""
MOST_LOOK_NS: Final = 5_000_000
"""The most that one evaluation of the condition counts: the longest condition takes less; beyond it the thread was
waiting for its turn."""
MOST_HIT_NS: Final = 20_000_000
"""The most that one hit counts. A virtual machine whose host pauses it counts the pause as work of whatever ran: one long
pause must not switch a tracepoint off, while three hits that really take so long do."""
_getframe: Final = sys._getframe
thread_time_ns: Final = getattr(time, "thread_time_ns", perf_counter_ns)
"""The processor time of this thread, where the system measures it."""
_FrameLocals: Final = (lambda: type(sys._getframe().f_locals))()
"""The type of a function frame's locals: from Python 3.13 on not a dictionary."""


class Budget:
    """The budget of all tracepoints of a process: a share of one processor."""

    def __init__(self, share: float, burst_ns: int = BURST_NS) -> None:
        self.share, self._burst_ns = share, burst_ns
        self._level = 0.0
        self._at_ns = perf_counter_ns()

    def spend(self, cost_ns: int, now_ns: int) -> bool:
        """Count what was spent; return whether it is too much."""
        level_left = self._level - (now_ns - self._at_ns) * self.share
        self._level = level = (level_left if level_left > 0.0 else 0.0) + cost_ns
        self._at_ns = now_ns
        return level > self._burst_ns

    def begin_again(self) -> None:
        """One tracepoint was switched off: the others start with nothing spent."""
        self._level = 0.0


class Rate:
    """A rate per second, with a burst of one second's worth."""

    def __init__(self, per_second: float) -> None:
        self._per_ns = per_second / 1e9
        self._most = max(1.0, per_second)
        self._level = 0.0
        self._at_ns = 0

    def takes(self, now_ns: int) -> bool:
        """Count one more where there is room for it."""
        level = max(0.0, self._level - (now_ns - self._at_ns) * self._per_ns)
        self._at_ns = now_ns
        if level + 1.0 > self._most:
            self._level = level
            return False
        self._level = level + 1.0
        return True


@dataclass
class Within:
    """What all tracepoints of a process share."""

    base: Base
    capture: Capture
    open_runs: OpenRuns
    budget: Budget
    changed: Callable[[], None]
    """Called when one is over."""


class Point:
    """One tracepoint on its line."""

    def __init__(self, order: TracepointOrder, within: Within) -> None:
        self.order = order
        self._within = within
        self._base, self._capture, self._budget = within.base, within.capture, within.budget
        self._condition = compiled(order.condition) if order.condition is not None else None
        self._values = [(value, compiled(value.expression)) for value in order.values]
        self._said = [compiled(one) for one in order.message.expressions] if order.message is not None else []
        self._template = template_of(order.message) if order.message is not None else ""
        self._rate = Rate(order.per_second)
        self._numbers = count(1)
        self.looked = 0
        """How often the line ran."""
        self.hits = 0
        self.left_out = 0
        """Hits that were left out because of the rate."""
        self.cost_ns = 0
        self.over = ""
        """Why it is over; empty while it is set."""
        self.trouble = ""
        """Why the condition failed to evaluate, the last time that it did."""

    def run(self, frame: FrameType) -> None:
        """The line is about to run in a frame."""
        if self.over:
            return
        begun_ns = perf_counter_ns()
        looked_ns = hit_ns = 0
        try:
            self.looked += 1
            values = frame.f_locals
            kind = type(values)
            # The names of a class may be in a mapping of the app's own type, which is not called.
            names: Mapping[str, Any] = values if kind is dict or kind is _FrameLocals else {}
            is_meant = self._holds(names, frame.f_globals)
            looked_ns = perf_counter_ns() - begun_ns
            if is_meant:
                before_ns = thread_time_ns()
                self._hit(frame, names, begun_ns)
                hit_ns = thread_time_ns() - before_ns
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            self.trouble = f"{type(trouble).__name__}: {trouble}"
        ended_ns = perf_counter_ns()
        # For a hit the thread's own time counts: on a busy machine others run meanwhile.
        cost_ns = min(looked_ns, MOST_LOOK_NS) + min(hit_ns, MOST_HIT_NS) + OVERHEAD_NS
        self.cost_ns += cost_ns
        if self._budget.spend(cost_ns, ended_ns):
            self._budget.begin_again()
            self._end(
                f"it was switched off: the line ran {self.looked:,} times here, and looking took more than "
                f"{self._budget.share:.0%} of a processor ({self.cost_ns / 1e6:,.0f} ms in all)"
            )

    def _holds(self, names: Mapping[str, Any], around: Mapping[str, Any]) -> bool:
        condition = self._condition
        if condition is None:
            return True
        try:
            value = condition(names, around)
            return value is True or (value is not False and holds(value))
        except NoValue as why:
            self.trouble = str(why)
        return False

    def _hit(self, frame: FrameType, names: Mapping[str, Any], now_ns: int) -> None:
        if is_ours():
            return
        if not self._rate.takes(now_ns):
            self.left_out += 1
            return
        number = next(self._numbers)
        if number > self.order.hits:
            return
        state.ours.working = True
        try:
            self._base.sender.put(self._report(frame, names, number))
        finally:
            state.ours.working = False
        self.hits = max(self.hits, number)
        if number >= self.order.hits:
            self._end(f"it was hit {number:,} times here")

    def _end(self, why: str) -> None:
        self.over = why
        self._within.changed()

    def _report(self, frame: FrameType, names: Mapping[str, Any], number: int) -> dict[str, Any]:
        order, code, run = self.order, frame.f_code, runs.current.get()
        around = frame.f_globals
        values = {
            value.name: self._shown(value.words, Evaluated.out(work, names, around)) for value, work in self._values
        }
        report = self._base.new_report("log", "INFO", run, {})
        attributes = report["attributes"]
        if "attributes" not in order.collect and run is not None:
            for name in run.attributes or ():
                attributes.pop(name, None)
        attributes |= {
            "tracepoint.id": order.id,
            "code.file.path": short(code.co_filename),
            "code.line.number": order.line,
            "code.function.name": short(code.co_qualname),
        }
        module = around.get("__name__")
        report["logger"] = short(module) if type(module) is str else ""
        report["message"], report["template"] = self._message(names, around, values, code.co_filename)
        if run is not None:
            report["run"] = {"id": run.id, "entry_point": short(run.entry_point) or "unnamed"}
        report["hit"] = self._evidence(frame, run, values, number)
        return report

    def _message(
        self, names: Mapping[str, Any], around: Mapping[str, Any], values: dict[str, str], file: str
    ) -> tuple[str, str]:
        message = self.order.message
        if message is None:
            place = f"{file.replace(chr(92), '/').rpartition('/')[2]}:{self.order.line}"
            values_shown = ", ".join(f"{name} = {value}" for name, value in values.items())
            named = ", ".join(f"{name} = {{value}}" for name in values)
            return long(f"{place} {values_shown}".rstrip()), long(f"{place} {named}".rstrip())
        shown: list[Any] = []
        for expression, work in zip(message.expressions, self._said, strict=True):
            shown.append(self._shown(words_of(expression), Evaluated.out(work, names, around), quoted=False))
        return long(message.said(shown, str)), long(self._template)

    def _shown(self, words: tuple[str, ...], worked: Evaluated, *, quoted: bool = True) -> str:
        """Return a value as text; nothing of one whose names are hidden by a rule."""
        redactor = self._base.redactor
        for word in words:
            rule = redactor.rule_for(word)
            if rule is not None:
                return mark(rule)
        if worked.why_not:
            return f"[no value: {worked.why_not}]"
        if type(worked.value) is str and not quoted:
            return worked.value[: self.order.size]
        return show(worked.value, redactor, depth=self.order.depth, chars=self.order.size)

    def _evidence(self, frame: FrameType, run: Any, values: dict[str, str], number: int) -> dict[str, Any]:
        order, capture = self.order, self._capture
        frames = capture.stack(frame) if "stack" in order.collect else [capture.place(frame, order.line)]
        if frames:
            frames[-1] = frames[-1] | {"line": order.line}
            if "locals" in order.collect:
                frames[-1]["locals"] = capture.locals_of(frame, depth=order.depth, chars=order.size)
        evidence: dict[str, Any] = {"tracepoint": order.id, "number": number, "frames": frames}
        if values:
            evidence["values"] = values
        if "trail" in order.collect:
            evidence["trail"] = (run if run is not None else self._within.open_runs).trail.now()
        return evidence
