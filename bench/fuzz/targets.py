"""What is driven: each target takes bytes, and returns; what it may refuse is caught here, all else is a fault."""

from __future__ import annotations

import json
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any, Final, NamedTuple

NOW_MS: Final = 1_780_000_000_000
TESTS: Final = Path(__file__).parents[2] / "tests"


class Target(NamedTuple):
    """One parser: what drives it, and inputs to begin with."""

    drive: Callable[[bytes], object]
    seeds: Callable[[], list[bytes]]


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def reports(data: bytes) -> object:
    """A body of reports, as it comes to ``POST /reports``: each line is taken or refused, and nothing else."""
    from obitus.service.intake import worker_tasks
    from obitus.service.intake.inflating import split
    from obitus.service.intake.lines import Refusal
    from obitus.service.intake.prepare import Ready, Sender
    from obitus.service.settings import Limits

    preparer = worker_tasks._preparer(worker_tasks.Rules(1, (), (), None))
    sender = Sender(1, "sailings", "production", NOW_MS)
    encoding = {0: "", 1: "gzip", 2: "zstd"}.get(data[0] if data else 0, "")
    body = split([data[1:]], encoding, Limits())
    found = [preparer.prepare(line, sender) for _, line in body.lines]
    assert all(isinstance(one, Ready | Refusal) for one in found)
    return len(found)


def exports(data: bytes) -> object:
    """An OTLP export, in protobuf and in JSON."""
    from obitus.core.telemetry import Steps
    from obitus.service.intake.exports import Export, read
    from obitus.service.problems import Problem
    from obitus.service.settings import Limits

    if not data:
        return None
    media = ("application/x-protobuf", "application/json")[data[0] & 1]
    signal = ("logs", "traces")[data[0] >> 1 & 1]
    try:
        return read(Export(signal, media, [data[1:]], "", NOW_MS), Limits(), Steps().of_sender("1"))  # type: ignore[arg-type]
    except Problem as problem:
        return problem.slug


def stacks(data: bytes) -> object:
    """Stack traces of all languages inside of a text."""
    from obitus.core.stacks import find_stacks

    return find_stacks(_text(data))


def log_files(data: bytes) -> object:
    """Lines of log files, read as records."""
    from obitus.core.log_files.records import record_of

    return [record_of(line) for line in _text(data).splitlines()]


def maps(data: bytes) -> object:
    """A source map, looked through whole."""
    from obitus.core.maps.source_map import MapTrouble, SourceMap

    try:
        found = SourceMap.read(data)
        found.check()
    except MapTrouble:
        return None
    return [found.original(line, column) for line in (0, 1, 7) for column in (0, 3, 400)]


def questions(data: bytes) -> object:
    """A question of people, and a condition of an alert rule."""
    from obitus.core.alerting.conditions import read_condition, sentence
    from obitus.core.asking.reading import read

    text = _text(data)
    for reading in (lambda: read(text, NOW_MS), lambda: sentence(read_condition(text, NOW_MS))):
        try:
            reading()
        except ValueError as trouble:
            _refused(trouble)
    return None


def _refused(trouble: ValueError) -> None:
    """A refusal is of a kind of our own, and has words."""
    assert type(trouble).__module__.startswith("obitus.") and str(trouble), repr(trouble)


def rules(data: bytes) -> object:
    """Rules that people write: for hiding, for grouping, for handing over, owners' files, tracepoints, channels."""
    from obitus.core.alerting.wanted import read_file
    from obitus.core.grouping.rules import parse_grouping_rule
    from obitus.core.handing_over.owners import read_owners
    from obitus.core.handing_over.rules import parse_handing_rule
    from obitus.core.redaction.rules import parse_rule
    from obitus.core.tracepoints.orders import read_condition, read_value

    text = _text(data)
    for parse in (
        parse_rule,
        parse_grouping_rule,
        parse_handing_rule,
        read_owners,
        read_condition,
        read_value,
        lambda text: read_file(text, "rules.toml"),
    ):
        try:
            parse(text)
        except ValueError as trouble:
            _refused(trouble)
    return None


def browser_reports(data: bytes) -> object:
    """What browsers report by themselves."""
    from obitus.core.standard_reports import NoReports, read

    try:
        return read(data, NOW_MS)
    except NoReports:
        return None


def notes(data: bytes) -> object:
    """Notes of people, and messages that a template made."""
    from obitus.core import prose
    from obitus.core.mining import pattern_of
    from obitus.core.templates import values_in

    text = _text(data)
    half = len(text) // 2
    return prose.as_json(prose.read(text)), pattern_of(text), values_in(text[:half], text[half:])


def hiding(data: bytes) -> object:
    """Hiding of secrets in a report of any shape: what comes back can be written as JSON."""
    redactor = _redactor()
    try:
        report = json.loads(data)
    except (ValueError, RecursionError):
        report = {
            "exceptions": [{"type": "E", "message": _text(data), "frames": []}],
            "attributes": {"given": _text(data)},
        }
    if isinstance(report, dict):
        redactor.report(report)
        return json.dumps(report)
    return None


@cache
def _redactor() -> Any:
    from obitus.service.intake.linear_patterns import redactor_of

    return redactor_of(())


def _recorded() -> list[bytes]:
    lines = (TESTS / "core/stacks/recorded.ndjson").read_text("utf-8").splitlines()
    return [json.loads(line)["text"].encode() for line in lines[::5]]


def _report() -> list[bytes]:
    frame = {
        "function": "quote",
        "module": "sailings.fares",
        "file": "sailings/fares.py",
        "line": 7,
        "own": True,
        "locals": {"berth": "4"},
    }
    one = {"kind": "failure", "id": "018f0000-0000-7000-8000-000000000001", "time": "2026-11-01T10:00:00Z", "exceptions": [{"type": "LookupError", "message": "no berth", "frames": [frame]}], "request": {"url": "https://ferry/x?a=1", "headers": [["accept", "*/*"]]}}  # fmt: skip
    log = {
        "kind": "log",
        "time": "2026-11-01T10:00:00Z",
        "severity": "WARN",
        "message": "tide of 4 m",
        "logger": "tides",
    }
    run = {
        "kind": "run",
        "time": "2026-11-01T10:00:00Z",
        "run": {"entry_point": "GET /tides", "outcome": "ok", "duration_ms": 5.0},
    }
    return [b"\0" + json.dumps(each).encode() for each in (one, log, run)]


def _exports() -> list[bytes]:
    logs = {"resourceLogs": [{"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "sailings"}}]}, "scopeLogs": [{"logRecords": [{"timeUnixNano": "1", "severityNumber": 17, "body": {"stringValue": "late"}}]}]}]}  # fmt: skip
    spans = {"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": "0" * 31 + "1", "spanId": "0" * 15 + "1", "name": "GET /tides", "kind": 2, "status": {"code": 2}, "events": [{"name": "exception", "attributes": [{"key": "exception.type", "value": {"stringValue": "E"}}]}]}]}]}]}  # fmt: skip
    return [
        b"\1" + json.dumps(logs).encode(),
        b"\3" + json.dumps(spans).encode(),
        b"\0\x0a\x04\x12\x02\x12\x00",
        b"\2\x0a\x04\x12\x02\x12\x00",
    ]


def _questions() -> list[bytes]:
    return [
        b"error and app=sailings",
        b'"no berth" duration_ms > 2s count by entry_point, status over time',
        b"count of failures > 20 in 10m by issue",
        b"no runs for 2h by entry_point where app=gatekeeper",
        b"(a or not b) time >= 2026-11-01",
    ]


def _rules() -> list[bytes]:
    return [
        b"name berth_*",
        b"pattern [0-9]{4}",
        b"never type LookupError",
        b"/tides/ @skerry/tides",
        b"type = LookupError -> tides",
        b"len(berths) > 4 and pier.name == 'eastholm'",
        b'[[rule]]\nname = "tides"\ncondition = "failures > 10 within 5m"\n',
    ]


def _maps() -> list[bytes]:
    whole = {
        "version": 3,
        "sources": ["a.ts"],
        "names": ["quote"],
        "mappings": "AAAAA,SAASA;AACA",
        "sourcesContent": ["function quote() {}"],
    }
    return [
        json.dumps(whole).encode(),
        json.dumps({"version": 3, "sections": [{"offset": {"line": 0, "column": 0}, "map": whole}]}).encode(),
    ]


TARGETS: Final[dict[str, Target]] = {
    "reports": Target(reports, _report),
    "exports": Target(exports, _exports),
    "stacks": Target(stacks, _recorded),
    "log_files": Target(log_files, lambda: [b"2026-11-01 10:00:00,123 ERROR tides: no depth\n", b'{"level": "error", "msg": "late"}\n', b"level=warn msg=\"late\" pier=4\n"]),
    "maps": Target(maps, _maps),
    "questions": Target(questions, _questions),
    "rules": Target(rules, _rules),
    "browser_reports": Target(browser_reports, lambda: [b'[{"type": "crash", "age": 4, "url": "https://pier.example/", "body": {"reason": "oom"}}]', b'{"csp-report": {"blocked-uri": "inline"}}']),
    "notes": Target(notes, lambda: [b"# Tides\n\n* see #4 and @quay, `code`\n\n> said\n", b"{} of {} berths at %s"]),
    "hiding": Target(hiding, lambda: [b'{"attributes": {"password": "a", "note": "token=abc, card 4111111111111111"}}', b"Authorization: Bearer abc.def.ghi"]),
}  # fmt: skip
