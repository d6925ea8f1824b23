"""The tracepoints of this process: set and removed as the service wants. An answer of the service is only stored
when it arrives; setting and removing are done on the client's own thread (``tend``). Each tracepoint ends at its
time, after its hits, or when it costs too much; all of them end when the service has not answered for a minute, and
when the client stops.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass
from importlib.machinery import SourceFileLoader
from types import CodeType
from typing import Any, Final

from obitus.client import state
from obitus.client.base import Base
from obitus.client.capture import Capture
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import is_ours, warn
from obitus.client.native import allocate_lock, monotonic
from obitus.client.open_runs import OpenRuns
from obitus.client.patches import Patches
from obitus.client.tracepoints.places import (
    CannotBeSet,
    Loaded,
    PlacedTracepoint,
    check,
    code_on,
    file_meant,
    loaded,
    text_of,
)
from obitus.client.tracepoints.points import Budget, Point, Within
from obitus.core.bounds import said, short
from obitus.core.tracepoints import OrderTrouble, TracepointOrder, is_end_of, read_order
from obitus.core.tracepoints.orders import MOST_OF_AN_APP

UNANSWERED_S: Final = 60.0
"""How long tracepoints stay set without an answer of the service."""
TELL_EVERY_S: Final = 3.0
"""How often the number of hits is reported to the service, while there are some."""
MOST_REMEMBERED: Final = 500
"""Number of ended tracepoints to remember, which a delayed list must not set again."""


@dataclass
class Kept:
    """A requested tracepoint, and its state here."""

    order: TracepointOrder
    until_s: float
    """By the monotonic clock."""
    point: Point
    state: str = "waits"
    """``set``, ``waits`` (for code that is not loaded), ``not set``."""
    why: str = ""
    offers: tuple[int, ...] = ()
    file: str = ""


class Requested:
    """Made once; in a forked child nothing is set until its own connection to the service has answered."""

    def __init__(self, base: Base, capture: Capture, open_runs: OpenRuns, environments: tuple[str, ...]) -> None:
        self._base = base
        self._environments = environments
        self._within = Within(base, capture, open_runs, Budget(base.settings.tracepoints_share), self._over)
        if sys.version_info >= (3, 12):
            from obitus.client.tracepoints.monitored import Monitored as Engine
        else:
            from obitus.client.tracepoints.rewritten import Rewritten as Engine
        self._engine = Engine()
        self._setting = allocate_lock()
        self._kept: dict[int, Kept] = {}
        self._over_here: dict[int, str] = {}
        """Why tracepoints are over in this process, by id."""
        self._wanted: Mapping[str, Any] | None = None
        self._version = 0
        self._answered_s = monotonic()
        self._look_again = False
        self._counted, self._counted_s = 0, 0.0
        self._imports = Patches()
        self._imports_watched = False
        self.has_news = False
        """Whether the service should get new states."""

    @property
    def version(self) -> int:
        """The version of the latest list."""
        return self._version

    # Any thread.

    def learn_from(self, answer: Mapping[str, Any]) -> None:
        """Store an answer of the service, to be acted upon at the next turn."""
        orders = answer.get("tracepoints")
        if not isinstance(orders, dict) or type(orders.get("version")) is not int:
            return
        if orders["version"] < self._version and monotonic() - self._answered_s < UNANSWERED_S:
            # An answer that was overtaken by a later one, or a service restored from a backup.
            return
        self._wanted = orders
        self._base.sender.wake()

    def is_due(self) -> bool:
        """Whether ``tend`` has something to do at once."""
        return self._wanted is not None or self._look_again

    @property
    def is_busy(self) -> bool:
        """Whether an answer is still to be acted upon."""
        return self.is_due() or bool(self._setting.locked())

    def states(self) -> list[dict[str, Any]]:
        """Return the state of each tracepoint here, in the form of the request."""
        states: list[dict[str, Any]] = []
        for entry in list(self._kept.values()):
            point = entry.point
            over = point.over
            state: dict[str, Any] = {
                "id": entry.order.id,
                "state": "over" if over else entry.state,
                "why": said(over or entry.why),
                "looked": point.looked,
                "hits": point.hits,
                "left_out": point.left_out,
                "cost_ms": round(point.cost_ns / 1e6, 3),
            }
            if point.trouble:
                state["trouble"] = said(f"the condition could not be evaluated: {point.trouble}")
            if entry.offers:
                state["offers"] = list(entry.offers)
            if entry.file:
                state["file"] = short(entry.file)
            states.append(state)
        return states

    # The client's own thread.

    def tend(self) -> None:
        """Do what is due: set requested tracepoints, end those that are over. Never raises."""
        if not self._setting.acquire(False):
            return
        try:
            self._tend()
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: tracepoints could not be looked after ({type(trouble).__name__}: {trouble}).")
        finally:
            self._setting.release()

    def _tend(self) -> None:
        orders, self._wanted = self._wanted, None
        changed = self._look_again
        self._look_again = False
        if orders is not None:
            self._answered_s = monotonic()
            if orders["version"] != self._version:
                self._version = orders["version"]
                changed |= self._take(orders)
        now_s = monotonic()
        counted = sum(entry.point.hits + entry.point.left_out for entry in self._kept.values())
        if counted != self._counted and now_s - self._counted_s > TELL_EVERY_S:
            self._counted, self._counted_s, self.has_news = counted, now_s, True
        if self._kept and now_s - self._answered_s > UNANSWERED_S:
            warn("Obitus: the service did not answer for a minute, so all tracepoints were removed.")
            self._kept.clear()
            self._version, changed = 0, True
        for number, entry in list(self._kept.items()):
            if now_s >= entry.until_s:
                del self._kept[number]
                self._remember(number, "its time is over")
                changed = True
            elif entry.point.over and number not in self._over_here:
                self._remember(number, entry.point.over)
                warn(f"Obitus: the tracepoint at {entry.order.place} is over: {entry.point.over}.")
                changed = True
        if changed:
            self._set()

    def _take(self, wanted: Mapping[str, Any]) -> bool:
        """Compare the requested tracepoints with the kept ones; return whether they differ."""
        listed = wanted.get("set")
        orders: dict[int, Mapping[str, Any]] = {}
        for order_sent in listed[:MOST_OF_AN_APP] if isinstance(listed, list) else ():
            if isinstance(order_sent, dict) and type(order_sent.get("id")) is int:
                orders[order_sent["id"]] = order_sent
        environment = wanted.get("environment")
        changed = False
        for number in [number for number in self._kept if number not in orders]:
            del self._kept[number]
            changed = True
        for number, sent in orders.items():
            if number not in self._kept and number not in self._over_here:
                changed |= self._begin(number, sent, environment if isinstance(environment, str) else "")
        return changed

    def _begin(self, number: int, sent: Mapping[str, Any], environment: str) -> bool:
        try:
            order = read_order(sent)
        except OrderTrouble as trouble:
            order = TracepointOrder(number, str(sent.get("file") or "?"), 0, float(UNANSWERED_S))
            self._kept[number] = self._refused(order, str(trouble))
            return True
        attributes = self._base.process
        if not order.is_meant(
            str(attributes.get("host.name")), int(attributes["process.pid"]), str(attributes["service.instance.id"])
        ):
            return False
        if self._environments and environment not in self._environments:
            self._kept[number] = self._refused(
                order,
                f"the app allows tracepoints in {', '.join(self._environments)} only, not in {environment or 'this environment'}",
            )
            return True
        self._kept[number] = Kept(order, monotonic() + order.seconds, Point(order, self._within))
        warn(
            f"Obitus: {order.person or 'somebody'} set a tracepoint at {order.place} in this process, "
            f"for {_span(order.seconds)} and up to {order.hits:,} hits."
        )
        return True

    def _refused(self, order: TracepointOrder, why: str) -> Kept:
        return Kept(order, monotonic() + order.seconds, Point(order, self._within), "not set", why)

    def _set(self) -> None:
        """Set what can be set, and note for the rest why it cannot."""
        self.has_news = True
        alive = [
            entry for entry in self._kept.values() if not entry.point.over and (entry.state != "not set" or entry.file)
        ]
        if not alive:
            self._engine.end()
            self._watch_imports(wanted=False)
            return
        # First, so that no import meanwhile is missed.
        self._watch_imports(wanted=True)
        places = loaded([entry.order.file for entry in alive])
        targets: list[PlacedTracepoint] = []
        for entry in alive:
            try:
                target = self._target(entry, places)
            except CannotBeSet as trouble:
                entry.state, entry.why = ("waits" if trouble.waits else "not set"), str(trouble)
                entry.offers = tuple(trouble.offers)
                continue
            targets.append(target)
        try:
            troubles = self._engine.use(targets, places)
        except CannotBeSet as trouble:
            troubles = {entry.order.id: str(trouble) for entry in alive}
            self._engine.end()
        for number, why in troubles.items():
            self._kept[number].state, self._kept[number].why = "not set", why

    def _target(self, kept: Kept, places: dict[str, Loaded]) -> PlacedTracepoint:
        """Return the code in which a tracepoint is to be set; raises CannotBeSet."""
        order = kept.order
        file = kept.file = file_meant(order, places)
        loaded_file = places.get(file) or Loaded(file)
        known = {
            **{id(code): code for code in map(self._engine.original, loaded_file.all_code().values())},
            **self._engine.known(file),
        }
        codes = code_on(order.line, known.values())
        text = text_of(file, loaded_file.names)
        check(order, text, codes, self._base.settings.release or "")
        if not codes:
            raise CannotBeSet(
                "this line runs when its file is imported, which is over: it is set when that happens again", waits=True
            )
        kept.state, kept.offers = "set", ()
        running = sum(self._engine.original(code) in codes for code in loaded_file.running.values())
        kept.why = self._engine.said_of_running(running)
        return PlacedTracepoint(kept.point, tuple(codes))

    # Code that is imported later.

    def _watch_imports(self, *, wanted: bool) -> None:
        if wanted == self._imports_watched:
            return
        self._imports_watched = wanted
        if not wanted:
            self._imports.remove()
            return

        def make(before: Any) -> Any:
            def get_code(loader: Any, name: Any) -> Any:
                code = before(loader, name)
                return self._imported(code) if type(code) is CodeType else code

            return get_code

        self._imports.put(SourceFileLoader, "get_code", make)

    def _imported(self, code: CodeType) -> CodeType:
        """Set tracepoints in a file before its module runs. On the app's thread, inside of its import."""
        if is_ours():
            return code
        file = code.co_filename
        points = [
            entry for entry in list(self._kept.values()) if not entry.point.over and is_end_of(file, entry.order.file)
        ]
        if not points or not self._setting.acquire(True, 1.0):
            return code
        state.ours.working = True
        try:
            text, fitting = text_of(file, {}), []
            for entry in points:
                try:
                    check(entry.order, text, (), self._base.settings.release or "")
                except CannotBeSet as trouble:
                    entry.file, entry.state, entry.why, entry.offers = (
                        file,
                        "not set",
                        str(trouble),
                        tuple(trouble.offers),
                    )
                else:
                    entry.file, entry.state, entry.why, entry.offers = file, "set", "", ()
                    fitting.append(entry.point)
            self.has_news = True
            return self._engine.loaded(code, fitting) if fitting else code
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            return code
        finally:
            state.ours.working = False
            self._setting.release()

    # Ends.

    def _over(self) -> None:
        """A tracepoint has ended by itself. On the app's thread: the client's own thread removes it."""
        self._look_again = True
        self._base.sender.wake()

    def _remember(self, number: int, why: str) -> None:
        self._over_here[number] = why
        while len(self._over_here) > MOST_REMEMBERED:
            del self._over_here[next(iter(self._over_here))]

    def end(self) -> None:
        """Remove everything: the client stops."""
        if not self._setting.acquire(True, 2.0):
            return
        try:
            self._kept.clear()
            self._engine.end()
            self._watch_imports(wanted=False)
        finally:
            self._setting.release()

    def begin_in_child(self) -> None:
        """In a forked child: remove the parent's tracepoints, and ask again."""
        self._setting = allocate_lock()
        self._kept.clear()
        self._over_here.clear()
        self._engine.end()
        self._watch_imports(wanted=False)
        self._wanted, self._version, self._look_again = None, 0, False
        self._answered_s = monotonic()


def _span(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.0f} min"
