"""Rows of tracepoints."""

from __future__ import annotations

from typing import NamedTuple


class Tracepoint(NamedTuple):
    """A tracepoint."""

    id: int
    app_id: int
    app: str
    issue_id: int | None
    environment: str
    release: str
    file: str
    line: int
    asked: str
    """JSON: condition, values, message, what to collect, bounds, hosts, instances."""
    hash: str
    code_hash: str
    most_hits: int
    person: str
    made_ms: int
    until_ms: int
    ended_ms: int | None
    ended_why: str
    hits: int
    latest_ms: int | None


class InstanceState(NamedTuple):
    """The latest state of a tracepoint in an instance."""

    tracepoint_id: int
    instance: str
    app_id: int
    host: str
    pid: int
    release: str
    environment: str
    runtime: str
    state: str
    said: str
    """JSON: why, trouble, the file, other possible lines."""
    looked: int
    hits: int
    left_out: int
    cost_ms: float
    said_ms: int


class StateSums(NamedTuple):
    """The sums of a tracepoint's latest states."""

    tracepoint_id: int
    is_set: int = 0
    """Instances in which it is set."""
    waits: int = 0
    not_set: int = 0
    looked: int = 0
    cost_ms: float = 0.0
