"""Whom a run called, from its steps, and under which name it was called itself."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.bounds import DURATIONS_MS
from obitus.core.calls import answered_at, bucket_of, called_text, calls_of


def step(kind: str = "http", severity: str = "INFO", **attributes: Any) -> dict[str, Any]:
    return {"kind": kind, "severity": severity, "message": "x", "attributes": attributes}


@pytest.mark.parametrize(
    ("one", "wanted"),
    [
        (step(**{"url.full": "https://tides.example/depth?pier=a"}), "http tides.example"),
        (step(**{"url.full": "https://Tides.Example:443/"}), "http tides.example"),
        (step(**{"url.full": "http://tides.example:443/"}), "http tides.example:443"),
        (step(**{"url.full": "http://[::1]:8080/x"}), "http ::1:8080"),
        (step(**{"server.address": "tides", "server.port": 8080, "rpc.system": "grpc"}), "http tides:8080"),
        (step(**{"server.address": "tides", "server.port": 443}), "http tides"),
        (step(**{"url.full": "http://[broken/"}), ""), (step(**{"url.full": 7}), ""), (step(), ""),
        (step("statement", **{"db.system.name": "postgresql", "db.namespace": "fares"}), "database postgresql fares"),
        (step("statement", **{"db.system.name": "sqlite"}), "database sqlite"),
        (step("statement"), "database database"),
        (step("process", **{"messaging.destination.name": "print-pass"}), "queue print-pass"),
        (step("log"), ""), (step("mark", **{"url.full": "http://x/"}), ""), ({"kind": "http", "message": "x"}, ""),
    ],
)  # fmt: skip
def test_who_is_called(one: dict[str, Any], wanted: str) -> None:
    """Hosts by name, with a port that is not their scheme's own; databases by kind and name; queues."""
    assert called_text(calls_of([one])) == wanted


def test_what_is_alike_is_counted_together() -> None:
    """By target, duration and whether it failed; time is summed."""
    url = {"url.full": "http://tides/"}
    trail = [
        step(**url, duration_ms=3), step(**url, duration_ms=4), step(**url, duration_ms=90, severity_text="x"),
        step(severity="ERROR", **url, duration_ms=4), step(**url), step("statement", duration_ms=1e9), step(**url, duration_ms="fast"),
    ]  # fmt: skip
    found = {(one.kind, one.below_ms, one.failed): (one.times, one.spent_ms) for one in calls_of(trail)}
    assert found == {
        ("http", 5, False): (2, 7), ("http", 100, False): (1, 90), ("http", 5, True): (1, 4), ("http", -1, False): (2, 0), ("database", 0, False): (1, 1e9),
    }  # fmt: skip
    assert called_text(calls_of(trail)) == "database database, http tides"


def test_under_which_name_a_run_was_called() -> None:
    url = {"url": "https://sailings.example/fares"}
    assert answered_at({"entry_point": "GET /fares"}, url, {}) == ("http", "sailings.example")
    assert answered_at({"entry_point": "job print-pass"}, None, {}) == ("queue", "print-pass")
    assert answered_at({"entry_point": "x"}, url, {"messaging.destination.name": "q"}) == ("queue", "q")
    assert answered_at({"entry_point": "GET /fares"}, {"url": "/fares"}, {}) is None
    assert answered_at({"entry_point": "nightly"}, None, {}) is None


@given(st.floats(min_value=0, allow_infinity=False))
def test_buckets(took_ms: float) -> None:
    """Each duration lies in one bucket, below its end and not below the one before."""
    end = bucket_of(took_ms)
    ends = [0.0, *map(float, DURATIONS_MS)]
    if end == 0:
        assert took_ms > DURATIONS_MS[-1]
    else:
        assert ends[ends.index(end) - 1] <= took_ms <= end


json = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(), lambda x: st.lists(x), max_leaves=3
)


@given(st.lists(st.dictionaries(st.sampled_from(["kind", "severity", "message"]), st.sampled_from(["http", "statement", "ERROR"])).map(dict), max_size=4), st.dictionaries(st.sampled_from(["url.full", "server.address", "server.port", "db.system.name", "db.namespace", "duration_ms", "messaging.destination.name"]), json))  # fmt: skip
def test_never_raises(steps: list[dict[str, Any]], attributes: dict[str, Any]) -> None:
    """Whatever attributes hold: they are what senders say."""
    found = calls_of([step | {"attributes": attributes} for step in steps])
    assert sum(one.times for one in found) <= len(steps)
    answered_at({}, {"url": attributes.get("url.full")}, attributes)
