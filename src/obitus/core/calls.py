"""The calls of a run: HTTP hosts, databases and queues, from its steps."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any, Final, Literal, NamedTuple
from urllib.parse import urlsplit

from obitus.core.bounds import DURATIONS_MS

CallKind = Literal["http", "database", "queue"]
LONGEST_NAME: Final = 200
JOB: Final = "job "
"""Prefix of the entry points of jobs."""


class AlikeCalls(NamedTuple):
    """Calls of one run that are alike."""

    kind: CallKind
    target: str
    """A host with its port where that is not the default; a kind of database and its name; the name of a queue."""
    below_ms: float
    """The end of the bucket of durations, 0 beyond all of them, -1 where nothing is known."""
    failed: bool
    """Whether there was no answer, or an error of the called side."""
    times: int
    spent_ms: float


def calls_of(trail: Iterable[Mapping[str, Any]]) -> tuple[AlikeCalls, ...]:
    """Return the calls in the steps of one run, equal ones counted together."""
    calls: Counter[tuple[CallKind, str, float, bool]] = Counter()
    spent: dict[tuple[CallKind, str, float, bool], float] = {}
    for step in trail:
        attributes = step.get("attributes") or {}
        whom = _called(step, attributes)
        if whom is None:
            continue
        took_ms = attributes.get("duration_ms")
        below_ms = -1.0
        if isinstance(took_ms, int | float) and took_ms >= 0:
            below_ms = bucket_of(took_ms)
        key = (*whom, below_ms, step.get("severity") in ("ERROR", "FATAL"))
        calls[key] += 1
        spent[key] = spent.get(key, 0.0) + (took_ms if below_ms >= 0 else 0.0)  # type: ignore[operator]
    return tuple(AlikeCalls(*key, times, spent[key]) for key, times in sorted(calls.items()))


def called_text(calls: Iterable[AlikeCalls]) -> str:
    """Return what a run called, as one text for questions: ``database sqlite, http tides.skerry.example``."""
    return ", ".join(dict.fromkeys(f"{one.kind} {one.target}" for one in calls))


def answered_at(
    run: Mapping[str, Any], request: Mapping[str, Any] | None, attributes: Mapping[str, Any]
) -> tuple[CallKind, str] | None:
    """Return the name by which a run was called: the host of its request, or its queue; None where neither is known.
    Calls of others to this name are calls to this app.
    """
    queue = attributes.get("messaging.destination.name")
    if isinstance(queue, str) and queue:
        return "queue", queue[:LONGEST_NAME]
    host = _host(str((request or {}).get("url") or ""))
    if host:
        return "http", host
    entry_point = str(run.get("entry_point") or "")
    if entry_point.startswith(JOB):
        return "queue", entry_point.removeprefix(JOB)[:LONGEST_NAME]
    return None


def bucket_of(took_ms: float) -> float:
    """Return the end of the bucket of a duration in milliseconds, 0 beyond all of them."""
    at = bisect_left(DURATIONS_MS, took_ms)
    return float(DURATIONS_MS[at]) if at < len(DURATIONS_MS) else 0.0


def _called(step: Mapping[str, Any], attributes: Mapping[str, Any]) -> tuple[CallKind, str] | None:
    kind = step.get("kind")
    queue = attributes.get("messaging.destination.name")
    if isinstance(queue, str) and queue:
        return "queue", queue[:LONGEST_NAME]
    if kind == "statement":
        system = str(attributes.get("db.system.name") or "database")
        name = attributes.get("db.namespace") or _server(attributes)
        return "database", (f"{system} {name}" if name else system)[:LONGEST_NAME]
    if kind == "http":
        host = _host(str(attributes.get("url.full") or "")) or _server(attributes)
        return ("http", host) if host else None
    return None


def _host(url: str) -> str:
    try:
        parts = urlsplit(url)
        host, port = (parts.hostname or ""), parts.port
    except ValueError:
        return ""
    own = {"http": 80, "https": 443}.get(parts.scheme)
    return f"{host}:{port}"[:LONGEST_NAME] if host and port and port != own else host[:LONGEST_NAME]


def _server(attributes: Mapping[str, Any]) -> str:
    address, port = attributes.get("server.address"), attributes.get("server.port")
    if not isinstance(address, str) or not address:
        return ""
    return f"{address}:{port}"[:LONGEST_NAME] if type(port) is int and port not in (80, 443) else address[:LONGEST_NAME]
