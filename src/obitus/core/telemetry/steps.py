"""The memory of traces whose own span has not come yet: their steps, failures and runs."""

from __future__ import annotations

import json
from collections import Counter, OrderedDict
from threading import Lock
from typing import Any, Final

MOST_TRACES: Final = 2000
MOST_STEPS: Final = 100
MOST_KEPT_BYTES: Final = 8 * 1024 * 1024
MOST_KEPT_BYTES_OF_A_SENDER: Final = 2 * 1024 * 1024
TraceSoFar = tuple[str, str, list[str], tuple[list[str], dict[str, Any]]]
"""App and id of a trace, its steps as JSON, the ids of its failures, and its run."""


class Steps:
    """The latest steps of traces whose own span has not come yet. Bounded in bytes, in all and for each sender; the
    oldest are dropped first.

    Safe to use from several threads.
    """

    def __init__(self) -> None:
        self._by_trace: OrderedDict[tuple[str, str, str], _Kept] = OrderedDict()
        self._links: OrderedDict[tuple[str, str, str], tuple[list[str], dict[str, Any]]] = OrderedDict()
        self._bytes: Counter[str] = Counter()
        self._lock = Lock()

    @property
    def kept_bytes(self) -> int:
        """About how many bytes the steps take."""
        return sum(self._bytes.values())

    def of_sender(self, sender: str) -> SendersSteps:
        """Return the steps of one sender (its reporting key), separate from all others."""
        return SendersSteps(self, sender)

    def link(self, place: tuple[str, str, str]) -> tuple[list[str], dict[str, Any]]:
        """Return the known parts of a trace: the ids of its failures, and its run."""
        with self._lock:
            link = self._links.setdefault(place, ([], {}))
            self._links.move_to_end(place)
            while len(self._links) > MOST_TRACES:
                self._links.popitem(last=False)
            return link

    def add(self, place: tuple[str, str, str], step: dict[str, Any]) -> None:
        """Remember a step."""
        self._keep(place, json.dumps(step, ensure_ascii=False, sort_keys=True, default=str))

    def _keep(self, place: tuple[str, str, str], packed: str) -> None:
        sender = place[0]
        with self._lock:
            trace = self._by_trace.setdefault(place, _Kept())
            self._by_trace.move_to_end(place)
            if len(trace.steps) < MOST_STEPS and packed not in trace.steps:
                trace.steps[packed] = None
                trace.bytes += len(packed)
                self._bytes[sender] += len(packed)
            while self._bytes[sender] > MOST_KEPT_BYTES_OF_A_SENDER:
                self._forget(next(other for other in self._by_trace if other[0] == sender))
            while len(self._by_trace) > MOST_TRACES or self.kept_bytes > MOST_KEPT_BYTES:
                self._forget(next(iter(self._by_trace)))

    def of(self, place: tuple[str, str, str]) -> list[dict[str, Any]]:
        """Return the steps of a trace so far, in order of time."""
        with self._lock:
            trace = self._by_trace.get(place)
            packed = list(trace.steps) if trace is not None else []
        return sorted(map(json.loads, packed), key=lambda step: str(step["time"]))

    def all_of(self, sender: str) -> list[TraceSoFar]:
        """Return everything remembered for one sender, so that another process can continue with it."""
        with self._lock:
            places = [place for place in dict.fromkeys((*self._by_trace, *self._links)) if place[0] == sender]
            return [
                (
                    app,
                    trace,
                    list(self._by_trace[place].steps) if place in self._by_trace else [],
                    self._links.get(place, ([], {})),
                )
                for place in places
                for _, app, trace in (place,)
            ]

    def add_all(self, sender: str, traces: list[TraceSoFar]) -> None:
        """Add what ``all_of`` returned to the memory of one sender."""
        for app, trace, steps, (ids, run) in traces:
            place = (sender, app, trace)
            for packed in steps:
                self._keep(place, packed)
            if ids or run:
                parents, known_run = self.link(place)
                parents += [one for one in ids if one not in parents][: MOST_STEPS - len(parents)]
                known_run.update(run)

    def _forget(self, place: tuple[str, str, str]) -> None:
        self._bytes[place[0]] -= self._by_trace.pop(place).bytes
        if self._bytes[place[0]] <= 0:
            del self._bytes[place[0]]


class SendersSteps:
    """The memory of the traces of one sender, separate for each of its services."""

    def __init__(self, steps: Steps, sender: str) -> None:
        self._steps, self._sender = steps, sender

    def add_failure(self, app: str, trace: str, failure_id: str) -> None:
        """Remember a failure of a trace: the span that is its run may come in a later export."""
        ids, _ = self._steps.link((self._sender, app, trace))
        if failure_id not in ids and len(ids) < MOST_STEPS:
            ids.append(failure_id)

    def failures_of(self, app: str, trace: str) -> list[str]:
        """Return the ids of a trace's failures so far."""
        return list(self._steps.link((self._sender, app, trace))[0])

    def set_run(self, app: str, trace: str, run: dict[str, Any]) -> None:
        """Remember the run of a trace: a failure of it may come in a later export."""
        self._steps.link((self._sender, app, trace))[1].update(run)

    def run_of(self, app: str, trace: str) -> dict[str, Any] | None:
        """Return the run of a trace, where it came."""
        return dict(self._steps.link((self._sender, app, trace))[1]) or None

    def add(self, app: str, trace: str, step: dict[str, Any]) -> None:
        """Remember a step."""
        self._steps.add((self._sender, app, trace), step)

    def of(self, app: str, trace: str) -> list[dict[str, Any]]:
        """Return the steps of a trace so far, in order of time."""
        return self._steps.of((self._sender, app, trace))


class _Kept:
    """The steps of one trace, each as JSON."""

    __slots__ = ("bytes", "steps")

    def __init__(self) -> None:
        self.steps: dict[str, None] = {}
        self.bytes = 0
