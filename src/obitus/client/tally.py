"""Counting all runs, and choosing which are sent whole: failed, refused, slow ones, and a few healthy ones to compare with."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from typing import Any, Final

from obitus.client.counter import Counter
from obitus.core.bounds import DURATIONS_MS, short
from obitus.core.clock import HOUR_MS, to_text

BUCKETS_MS: Final = DURATIONS_MS
MOST_ENTRY_POINTS: Final = 1000
MOST_COUNTERS: Final = 20_000
HEALTHY_AN_HOUR: Final = 10
HEALTHY_AFTER_A_FAILED_ONE: Final = 3
MOST_OWED: Final = 12
HEALTHY_NEAR_FAILED_AN_HOUR: Final = 60
"""Healthy runs of one entry point that are sent after a failed or refused one, to compare with it."""
SLOW_AN_HOUR: Final = 20
RUNS_TO_JUDGE_SLOW: Final = 100
SLOW_SHARE: Final = 0.01
LEAST_SLOW_MS: Final = 20
OTHER: Final = "(other entry points)"


_Key = tuple[str, str, int | None, int]


class _EntryPoint:
    """What is known of one entry point: durations so far by bucket, and what was kept this hour."""

    __slots__ = ("durations", "healthy", "hour", "kept", "near", "next_kept", "owed", "runs", "slow", "slow_over")

    def __init__(self) -> None:
        self.durations = [0] * (len(BUCKETS_MS) + 1)
        self.runs = 0
        self.slow_over: int | None = None
        self.hour = -1
        self.healthy = self.kept = self.slow = self.near = self.owed = 0
        self.next_kept = 1


class Tally:
    """Counts runs per entry point, outcome, status and duration bucket.

    Safe to use from several threads, and from a signal handler that comes in between: counting takes no lock.
    ``new_id`` makes the id of a tally report; each has its own from its first count on.
    """

    def __init__(self, new_id: Callable[[], str]) -> None:
        self._new_id = new_id
        self._counters: dict[_Key, Counter] = {}
        self._entry_points: dict[str, _EntryPoint] = {}

    def add(self, entry_point: str, outcome: str, status: int | None, duration_ms: float, now_ms: int) -> str | None:
        """Count one run; return why it should be sent whole, in words, or None."""
        bucket = bisect_left(BUCKETS_MS, duration_ms)
        counts = self._entry_points.get(entry_point)
        if counts is None:
            if len(self._entry_points) >= MOST_ENTRY_POINTS:
                entry_point = OTHER
            counts = self._entry_points.setdefault(entry_point, _EntryPoint())
        counter = self._counters.get((entry_point, outcome, status, bucket))
        if counter is None:
            counter = self._new_counter(entry_point, outcome, status, bucket)
        if not counter.since_ms:
            counter.since_ms = now_ms
        next(counter.count)
        if outcome == "ok":
            return _judge(counts, bucket, duration_ms, now_ms)
        counts.owed = min(MOST_OWED, counts.owed + HEALTHY_AFTER_A_FAILED_ONE)
        return outcome

    def take(self) -> list[dict[str, Any]]:
        """Return the counts since the last time as tally reports, and start from zero."""
        tallies = []
        for key, counter in list(self._counters.items()):
            since_ms, report_id = counter.since_ms, counter.id
            # A run that ends at this very moment is in this report or in the next one, never in both.
            counter.since_ms, counter.id = 0, None
            runs = counter.waiting
            counter.taken += runs
            if runs:
                tallies.append(_report(key, runs, report_id or self._new_id(), since_ms))
        return tallies

    def look(self) -> list[dict[str, Any]]:
        """Return the counts since the last ``take`` without ending them, in case there is no next ``take``. Reports
        of the same count have the same id then and later, so that only one of them is stored.
        """
        tallies = []
        for key, counter in list(self._counters.items()):
            runs = counter.waiting
            if runs:
                if counter.id is None:
                    counter.id = self._new_id()
                tallies.append(_report(key, runs, counter.id, counter.since_ms))
        return tallies

    def _new_counter(self, entry_point: str, outcome: str, status: int | None, bucket: int) -> Counter:
        if len(self._counters) >= MOST_COUNTERS:
            # Runs with thousands of different statuses are still counted.
            entry_point, status = OTHER, None
        return self._counters.setdefault((entry_point, outcome, status, bucket), Counter())


def _report(key: _Key, runs: int, report_id: str, since_ms: int) -> dict[str, Any]:
    entry_point, outcome, status, bucket = key
    report: dict[str, Any] = {
        "kind": "tally",
        "id": report_id,
        "time": to_text(since_ms),
        "entry_point": short(entry_point) or "unnamed",
        "outcome": outcome,
        "runs": runs,
    }
    if status is not None:
        report["status"] = status
    if bucket < len(BUCKETS_MS):
        report["duration_ms_below"] = BUCKETS_MS[bucket]
    return report


def _judge(counts: _EntryPoint, bucket: int, duration_ms: float, now_ms: int) -> str | None:
    hour = now_ms // HOUR_MS
    if hour != counts.hour:
        counts.hour, counts.healthy, counts.kept, counts.slow, counts.next_kept, counts.near = hour, 0, 0, 0, 1, 0
    counts.durations[bucket] += 1
    counts.runs += 1
    if counts.runs % RUNS_TO_JUDGE_SLOW == 0:
        counts.slow_over = _slow_bound(counts)
    if counts.slow_over is not None and duration_ms > counts.slow_over and counts.slow < SLOW_AN_HOUR:
        counts.slow += 1
        return f"slow: over {counts.slow_over} ms, which 99 of 100 earlier runs of this entry point stayed under"
    counts.healthy += 1
    # The 1st, 2nd, 4th, 8th … of an hour: few, spread over it, and the same ones for the same traffic.
    if counts.healthy >= counts.next_kept and counts.kept < HEALTHY_AN_HOUR:
        counts.kept += 1
        counts.next_kept *= 2
        return "healthy, to compare failing ones with"
    if counts.owed > 0 and counts.near < HEALTHY_NEAR_FAILED_AN_HOUR:
        counts.owed -= 1
        counts.near += 1
        return "healthy, soon after one that was not"
    return None


def _slow_bound(counts: _EntryPoint) -> int | None:
    """Return the bucket bound below which 99 of 100 runs are; None where nothing is slow."""
    over = 0
    for place in range(len(BUCKETS_MS), 0, -1):
        over += counts.durations[place]
        if over > counts.runs * SLOW_SHARE:
            return max(LEAST_SLOW_MS, BUCKETS_MS[place]) if place < len(BUCKETS_MS) else None
    return LEAST_SLOW_MS
