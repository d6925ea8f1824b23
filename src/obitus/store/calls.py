"""Who calls whom in a window: apps, their hosts, databases and queues, and their share of the time."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from typing import Final

from obitus.core.calls import CallKind
from obitus.core.statistics import below_share
from obitus.store.database import Reader
from obitus.store.now import NARROWED, Slots, narrowed_to
from obitus.store.rows.now import AnswersAt, CallsAlike, LinkedRuns, RunsWhole
from obitus.store.windows import Window

_CALLS: Final = """
SELECT apps.name AS app, c.entry_point, c.outcome, c.kind, c.target, c.below_ms, c.calls, c.failed, c.spent_ms FROM (
  SELECT app_id, entry_point, outcome, kind, target, below_ms, SUM(calls) AS calls, SUM(failed) AS failed, SUM(spent_ms) AS spent_ms
  FROM call_slots WHERE minutes = :minutes AND slot >= :first AND slot < :end{narrowed}
  GROUP BY app_id, entry_point, outcome, kind, target, below_ms) c
JOIN apps ON apps.id = c.app_id WHERE apps.removed_ms IS NULL"""
_WHOLE: Final = """
SELECT apps.name AS app, s.entry_point, s.outcome, s.runs, s.whole, s.whole_ms FROM (
  SELECT app_id, entry_point, outcome, SUM(runs) AS runs, SUM(whole) AS whole, SUM(whole_ms) AS whole_ms
  FROM run_slots WHERE minutes = :minutes AND slot >= :first AND slot < :end{narrowed} GROUP BY app_id, entry_point, outcome) s
JOIN apps ON apps.id = s.app_id WHERE apps.removed_ms IS NULL"""
_LINKED: Final = """
SELECT callers.name AS caller, apps.name AS app, l.below_ms, l.runs, l.failed FROM (
  SELECT caller_id, app_id, below_ms, SUM(runs) AS runs, SUM(failed) AS failed FROM link_slots
  WHERE minutes = :minutes AND slot >= :first AND slot < :end{narrowed} GROUP BY caller_id, app_id, below_ms) l
JOIN apps ON apps.id = l.app_id JOIN apps callers ON callers.id = l.caller_id WHERE apps.removed_ms IS NULL AND callers.removed_ms IS NULL"""
_OF_EITHER: Final = " AND (SELECT id FROM apps WHERE name = :app) IN (caller_id, app_id)"
# Of several apps that answer at one name, the most frequent one.
_ANSWERS: Final = """
SELECT a.kind, a.name, apps.name AS app, MAX(a.runs) AS runs FROM answered_at a JOIN apps ON apps.id = a.app_id
WHERE apps.removed_ms IS NULL GROUP BY a.kind, a.name"""


@dataclass(slots=True)
class Called:
    """Calls of one app to one host, database or queue, or to another app; estimated for all runs from those that were sent whole."""

    app: str
    kind: CallKind
    target: str
    to_app: str | None
    """The app that answers there, where it is one of ours."""
    calls: float = 0
    failed: float = 0
    durations: defaultdict[float, float] = field(default_factory=lambda: defaultdict(float))
    """Calls by the end of their bucket, 0 beyond all of them."""

    def below_ms(self, share: float) -> float | None:
        """Return the end of the bucket below which this share of calls lies; None where nothing is known, or beyond all."""
        return below_share(self.durations, share)


@dataclass(slots=True)
class Spent:
    """The time of an entry point's runs, by called side."""

    app: str
    entry_point: str
    runs: int = 0
    whole: int = 0
    known: int = 0
    """All runs of outcomes of which some were sent whole."""
    took_ms: float = 0
    """Estimated for all runs from those that were sent whole."""
    with_ms: defaultdict[tuple[CallKind, str], float] = field(default_factory=lambda: defaultdict(float))
    """The same by called side."""


@dataclass(slots=True)
class Linked:
    """Runs of one app that were called by another."""

    caller: str
    app: str
    runs: int = 0
    failed: int = 0
    durations: defaultdict[float, float] = field(default_factory=lambda: defaultdict(float))

    def below_ms(self, share: float) -> float | None:
        """Return the end of the bucket below which this share of runs lies."""
        return below_share(self.durations, share)


@dataclass(slots=True)
class CallGraph:
    """Who called whom."""

    called: dict[tuple[str, CallKind, str], Called] = field(default_factory=dict)
    spent: dict[tuple[str, str], Spent] = field(default_factory=dict)
    linked: dict[tuple[str, str], Linked] = field(default_factory=dict)
    runs: int = 0
    whole: int = 0
    """Runs that were sent whole, from which calls are known."""


def calls(reader: Reader, slots: Slots, window: Window) -> CallGraph:
    """Return who called whom in slots; ``window`` selects app, environment and release. Only some runs are sent
    whole: those that failed, and some that did not. Each represents all runs of its entry point with the same
    outcome.
    """
    narrowed, params = narrowed_to(slots, window)
    graph = CallGraph()
    stands_for: dict[tuple[str, str, str], float] = {}
    for row in reader.all(RunsWhole, _WHOLE.format(narrowed=narrowed), params):
        times = max(1.0, row.runs / row.whole) if row.whole else 1.0
        stands_for[row.app, row.entry_point, row.outcome] = times
        spent = graph.spent.setdefault((row.app, row.entry_point), Spent(row.app, row.entry_point))
        spent.runs += max(row.runs, row.whole)
        spent.whole += row.whole
        spent.known += max(row.runs, row.whole) if row.whole else 0
        spent.took_ms += row.whole_ms * times
        graph.runs += max(row.runs, row.whole)
        graph.whole += row.whole
    answers = {(row.kind, row.name): row.app for row in reader.all(AnswersAt, _ANSWERS)}
    for alike in reader.all(CallsAlike, _CALLS.format(narrowed=narrowed), params):
        times = stands_for.get((alike.app, alike.entry_point, alike.outcome), 1.0)
        key = (alike.app, alike.kind, alike.target)
        called = graph.called.get(key)
        if called is None:
            to_app = answers.get((alike.kind, alike.target))
            called = graph.called[key] = Called(*key, to_app if to_app != alike.app else None)
        called.calls += alike.calls * times
        called.failed += alike.failed * times
        if alike.below_ms >= 0:
            called.durations[alike.below_ms] += alike.calls * times
        if alike.kind != "queue":
            # Putting a job into a queue does not wait for the job.
            of_point = graph.spent.setdefault((alike.app, alike.entry_point), Spent(alike.app, alike.entry_point))
            of_point.with_ms[alike.kind, alike.target] += alike.spent_ms * times
    of_links = narrowed.replace(NARROWED["app"], _OF_EITHER).replace(NARROWED["release"], "")
    for link in reader.all(LinkedRuns, _LINKED.format(narrowed=of_links), params):
        linked = graph.linked.setdefault((link.caller, link.app), Linked(link.caller, link.app))
        linked.runs += link.runs
        linked.failed += link.failed
        if link.below_ms >= 0:
            linked.durations[link.below_ms] += link.runs
    return graph


def healthy_weights(reader: Reader, slots: Slots, window: Window) -> dict[tuple[str, str], float]:
    """Return by app and entry point how many healthy runs each one that was sent whole represents."""
    narrowed, params = narrowed_to(slots, window)
    rows = reader.all(RunsWhole, _WHOLE.format(narrowed=narrowed), params)
    return {
        (row.app, row.entry_point): max(1.0, row.runs / row.whole) for row in rows if row.outcome == "ok" and row.whole
    }
