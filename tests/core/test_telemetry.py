"""Translating OpenTelemetry by itself: what becomes of spans and log records, whatever they hold."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.telemetry import MOST_STEPS, Steps, logs, traces
from obitus.core.telemetry import spans as spans_read
from obitus.core.telemetry.steps import MOST_KEPT_BYTES_OF_A_SENDER

NOW_MS = 1_790_000_000_000
TRACE, SPAN = "4f" * 16, "a1" * 8
SECOND_NS = 1_000_000_000


def value(of: Any) -> dict[str, Any]:
    if isinstance(of, bool):
        return {"boolValue": of}
    if isinstance(of, int):
        return {"intValue": str(of)}
    if isinstance(of, list):
        return {"arrayValue": {"values": [value(one) for one in of]}}
    return {"stringValue": of}


def attributes(**named: Any) -> list[dict[str, Any]]:
    return [{"key": name.replace("__", "."), "value": value(of)} for name, of in named.items()]


RESOURCE = {"attributes": attributes(service__name="sailings", service__version="3.1.0", deployment__environment="staging", host__name="pier-1")}  # fmt: skip


def spans(*raw: dict[str, Any], resource: dict[str, Any] = RESOURCE) -> dict[str, Any]:
    return {"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": list(raw)}]}]}


def records(*raw: dict[str, Any]) -> dict[str, Any]:
    scope = {"scope": {"name": "skerry.gate"}, "logRecords": list(raw)}
    return {"resourceLogs": [{"resource": RESOURCE, "scopeLogs": [scope]}]}


INSIDE = f"{1:016x}"
"""The first span's id, as that of a parent."""


def span(kind: int = 2, number: int = 1, **more: Any) -> dict[str, Any]:
    start = NOW_MS * 1_000_000 + number * SECOND_NS
    base = {"traceId": TRACE, "spanId": f"{number:016x}", "kind": kind, "name": f"span {number}", "startTimeUnixNano": str(start), "endTimeUnixNano": str(start + SECOND_NS // 4)}  # fmt: skip
    return base | more


def raised(**more: Any) -> dict[str, Any]:
    told = attributes(exception__type="TideError", exception__message="no depth", exception__stacktrace='Traceback (most recent call last):\n  File "/srv/a.py", line 3, in read\n    go()\nTideError: no depth\n', **more)  # fmt: skip
    return {"name": "exception", "timeUnixNano": str(NOW_MS * 1_000_000), "attributes": told}


def translated(payload: dict[str, Any], by: Any = traces, steps: Steps | None = None) -> list[dict[str, Any]]:
    kept = (steps or Steps()).of_sender("key 1")
    return [report for one in by(payload, NOW_MS, kept) for _, report in one.reports]


def test_a_server_span_is_a_run_with_its_steps_and_a_tally() -> None:
    """Calls that a run made stand in its trail in order of time; the route is its entry point; runs are counted."""
    query = span(3, 3, attributes=attributes(db__system="sqlite", db__statement="SELECT 1"))
    call = span(3, 2, attributes=attributes(http__method="GET", http__url="http://tides/eastholm", http__status_code=503), status={"code": 2})  # fmt: skip
    served = span(2, 1, attributes=attributes(http__request__method="GET", http__route="/fare", http__response__status_code=200))  # fmt: skip
    run, tally = translated(spans(query, call, served))
    assert (run["kind"], run["run"]["entry_point"], run["run"]["outcome"]) == ("run", "GET /fare", "ok")
    assert run["run"]["duration_ms"] == 250 and run["release"] == "3.1.0" and run["request"]["status"] == 200
    assert [(step["kind"], step["message"]) for step in run["trail"]] == [
        ("http", "GET http://tides/eastholm"),
        ("statement", "SELECT 1"),
    ]
    assert (run["trail"][0]["severity"], run["trail"][0]["attributes"]["status"]) == ("ERROR", 503)
    assert (tally["kind"], tally["runs"], tally["entry_point"], tally["status"]) == ("tally", 1, "GET /fare", 200)


@pytest.mark.parametrize(
    ("status", "failed", "outcome"), [(200, False, "ok"), (404, False, "refused"), (500, False, "failed"), (200, True, "failed")]
)  # fmt: skip
def test_how_a_run_ended(status: int, failed: bool, outcome: str) -> None:
    """By its status code, or because it says that it failed."""
    served = span(attributes=attributes(http__response__status_code=status), status={"code": 2 if failed else 0})
    assert translated(spans(served))[0]["run"]["outcome"] == outcome


def test_one_exception_on_many_spans_is_one_failure() -> None:
    """Every span that it passes through records it, perhaps a log too: the ids are the same, so it is stored once."""
    inner = span(1, 2, events=[raised()], status={"code": 2})
    outer = span(2, 1, events=[raised()], status={"code": 2})
    logged = {"traceId": TRACE, "severityNumber": 17, "attributes": raised()["attributes"], "timeUnixNano": str(NOW_MS * 1_000_000)}  # fmt: skip
    steps = Steps()
    failures = [r for r in translated(spans(inner, outer), steps=steps) if r["kind"] == "failure"]
    failures += translated(records(logged), logs, steps)
    assert len(failures) == 3 and len({failure["id"] for failure in failures}) == 1
    assert failures[0]["exceptions"][0]["frames"][0]["function"] == "read" and not failures[0]["handled"]


def test_a_failure_that_did_not_escape_is_handled() -> None:
    """A span that ended well with an exception on it dealt with it; one that ended with an error did not."""
    well, badly = span(events=[raised()]), span(events=[raised(exception__escaped=False)], status={"code": 2})
    assert translated(spans(well))[0]["handled"] is True
    assert translated(spans(badly))[0]["handled"] is False
    assert translated(spans(span(events=[raised(exception__escaped=True)])))[0]["handled"] is False


def test_run_and_failure_find_each_other_over_two_exports() -> None:
    """Whichever comes first, what comes later names the other."""
    steps = Steps()
    (failure,) = translated(spans(span(1, 2, parentSpanId=INSIDE, events=[raised()])), steps=steps)
    run, _ = translated(spans(span(2, 1)), steps=steps)
    assert run["run"]["failures"] == [failure["id"]]
    (later,) = translated(spans(span(1, 3, parentSpanId=INSIDE, events=[raised(), raised()][:1])), steps=steps)
    assert later["run"]["id"] == run["run"]["id"]


@pytest.mark.parametrize("order", [(0, 1, 2), (2, 1, 0), (1, 2, 0)])
@pytest.mark.parametrize("at_once", [True, False])
def test_a_request_inside_of_a_job(order: tuple[int, ...], at_once: bool) -> None:
    """Both are runs; what fails belongs to the request, which is nearer, once that is known, and is named by the job too."""
    steps = Steps()
    all_spans = [
        span(1, 1, name="nightly"),
        span(2, 2, name="GET", parentSpanId=INSIDE),
        span(1, 3, parentSpanId=f"{2:016x}", events=[raised()]),
    ]
    exports = [[all_spans[place] for place in order]] if at_once else [[all_spans[place]] for place in order]
    found = [report for export in exports for report in translated(spans(*export), steps=steps)]
    points = {report["run"]["entry_point"] for report in found if report["kind"] == "run"}
    assert points == {"job nightly", "GET"}
    (failure,) = [report for report in found if report["kind"] == "failure"]
    if at_once or order.index(1) < order.index(2):
        assert failure["run"]["entry_point"] == "GET"


def test_what_one_sender_sends_is_no_others() -> None:
    """Steps and runs of a trace are kept for each key by itself, and can be handed to another process."""
    steps, elsewhere = Steps(), Steps()
    list(traces(spans(span(3, 2)), NOW_MS, steps.of_sender("key 1")))
    assert steps.of_sender("key 2").of("sailings", TRACE) == []
    elsewhere.add_all("key 1", steps.all_of("key 1"))
    assert elsewhere.of_sender("key 1").of("sailings", TRACE) == steps.of_sender("key 1").of("sailings", TRACE) != []
    elsewhere.add_all("key 1", steps.all_of("key 1"))
    assert len(elsewhere.of_sender("key 1").of("sailings", TRACE)) == 1


def test_steps_are_bounded() -> None:
    """In number for one trace, in bytes for one sender and for all; the oldest go first."""
    steps = Steps()
    mine = steps.of_sender("key 1")
    for number in range(MOST_STEPS + 50):
        mine.add("sailings", TRACE, {"time": f"{number:05}", "message": "x"})
    assert len(mine.of("sailings", TRACE)) == MOST_STEPS
    for number in range(400):
        mine.add("sailings", f"{number:032x}", {"time": "1", "message": "x" * 20_000})
    assert steps.kept_bytes <= MOST_KEPT_BYTES_OF_A_SENDER
    assert mine.of("sailings", f"{399:032x}") and not mine.of("sailings", f"{0:032x}")


def test_log_records() -> None:
    """A record is a log with its severity and logger; logged twice in one export it is two, sent again it is the same."""
    record = {"timeUnixNano": str(NOW_MS * 1_000_000), "severityNumber": 13, "body": value("gangway up"), "attributes": attributes(pier="merrow")}  # fmt: skip
    first, second = translated(records(record, record), logs)
    assert (first["kind"], first["severity"], first["logger"], first["message"]) == ("log", "WARN", "skerry.gate", "gangway up")  # fmt: skip
    assert first["attributes"]["pier"] == "merrow" and first["attributes"]["host.name"] == "pier-1"
    assert first["id"] != second["id"]
    assert [r["id"] for r in translated(records(record, record), logs)] == [first["id"], second["id"]]


@pytest.mark.parametrize(
    ("given_", "severity"),
    [({"severityNumber": 1}, "TRACE"), ({"severityNumber": 24}, "FATAL"), ({"severityNumber": "SEVERITY_NUMBER_ERROR3"}, "ERROR"),
     ({"severityText": "warning"}, "WARN"), ({}, "INFO"), ({"severityNumber": 99}, "INFO")],
)  # fmt: skip
def test_severities(given_: dict[str, Any], severity: str) -> None:
    """By number, by the number's name, by text."""
    assert translated(records(given_ | {"body": value("x")}), logs)[0]["severity"] == severity


def test_what_cannot_be_read_is_refused_alone() -> None:
    """A span without ids or time says why, and its neighbours are taken."""
    kept = Steps().of_sender("key 1")
    bad = [
        span(traceId="0" * 32),
        span(startTimeUnixNano="0"),
        span(startTimeUnixNano="-5"),
        span(kind="x" * 3, parentSpanId=INSIDE),
    ]
    (found,) = traces(spans(*bad, span()), NOW_MS, kept)
    assert [number for number, _ in found.refused] == [1, 2, 3] and all(why for _, why in found.refused)
    assert {number for number, _ in found.reports} == {5}


def test_too_many_records_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is beyond the most that is read of one export is said to be left out."""
    monkeypatch.setattr(spans_read, "MOST_RECORDS", 3)
    found = list(traces(spans(*(span(number=n) for n in range(1, 6))), NOW_MS, Steps().of_sender("key 1")))
    assert found[-1].left_out == 2 and sum(len(one.reports) for one in found) >= 3


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**70), 2**70) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["key", "value", "stringValue", "intValue", "arrayValue", "values", "kvlistValue"]), inner, max_size=3),
    max_leaves=12,
)  # fmt: skip
NAMES = ["traceId", "spanId", "kind", "name", "startTimeUnixNano", "endTimeUnixNano", "attributes", "status", "events", "severityNumber", "body", "timeUnixNano"]  # fmt: skip


@given(st.dictionaries(st.sampled_from(NAMES), JSON, max_size=8), st.sampled_from([traces, logs]))
def test_nothing_that_is_sent_makes_it_fail(raw: dict[str, Any], by: Any) -> None:
    """Each record makes reports, or is refused in words, whatever its fields hold."""
    payload = spans(span() | raw, raw) if by is traces else records(raw)
    for one in by(payload, NOW_MS, Steps().of_sender("key 1")):
        assert all(isinstance(why, str) for _, why in one.refused)
        assert all(report["kind"] in ("run", "failure", "tally", "log") for _, report in one.reports)
