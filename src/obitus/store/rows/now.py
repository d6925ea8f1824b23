"""Rows of the page Now: runs, calls and failures in slots of time."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.calls import CallKind


class RunsInSlot(NamedTuple):
    """Runs in a slot of time."""

    slot: int
    runs: int
    failed: int


class RunsAlike(NamedTuple):
    """Runs of an entry point with one outcome and bucket of durations."""

    app: str
    entry_point: str
    outcome: str
    status: int
    below_ms: float
    runs: int


class RunsWhole(NamedTuple):
    """Runs of an entry point with one outcome, and those of them that were sent whole."""

    app: str
    entry_point: str
    outcome: str
    runs: int
    whole: int
    whole_ms: float


class CallsAlike(NamedTuple):
    """Calls to one target from runs with one outcome, by bucket of durations."""

    app: str
    entry_point: str
    outcome: str
    kind: CallKind
    target: str
    below_ms: float
    calls: int
    failed: int
    spent_ms: float


class LinkedRuns(NamedTuple):
    """Runs of one app that another called, by bucket of durations."""

    caller: str
    app: str
    below_ms: float
    runs: int
    failed: int


class AnswersAt(NamedTuple):
    """The app that answers at a name."""

    kind: CallKind
    name: str
    app: str
    runs: int


class FailuresInSlot(NamedTuple):
    """Failures in a slot of time."""

    slot: int
    failures: int
