"""From OpenTelemetry's spans to reports: server and consumer spans, and inner ones below no other, become runs, their outgoing calls steps, exceptions failures."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from typing import Any, Final

from obitus.core.bounds import medium, short
from obitus.core.clock import HOUR_MS, to_text
from obitus.core.ids import derived_id
from obitus.core.telemetry.failing import failure_of
from obitus.core.telemetry.fields import (
    MOST_TEXT,
    Source,
    Translated,
    Untranslatable,
    attributes_of,
    bounded,
    dict_in,
    hex_id,
    list_in,
    nanoseconds,
    source_of,
)
from obitus.core.telemetry.limits import MOST_RECORDS, MOST_RESOURCES
from obitus.core.telemetry.steps import SendersSteps

MOST_EVENTS: Final = 50
_KINDS: Final = {"SPAN_KIND_INTERNAL": 1, "SPAN_KIND_SERVER": 2, "SPAN_KIND_CLIENT": 3, "SPAN_KIND_PRODUCER": 4, "SPAN_KIND_CONSUMER": 5}  # fmt: skip
# OpenTelemetry's semantic conventions before 1.23 (HTTP) and 1.28 (databases), as many SDKs still write them.
_EARLIER_NAMES: Final = {
    "http.method": "http.request.method", "http.url": "url.full", "http.target": "url.path", "http.status_code": "http.response.status_code",
    "http.scheme": "url.scheme", "http.client_ip": "client.address", "http.user_agent": "user_agent.original", "net.peer.name": "server.address",
    "net.peer.port": "server.port", "db.statement": "db.query.text", "db.system": "db.system.name", "db.operation": "db.operation.name",
    "messaging.destination": "messaging.destination.name", "enduser.id": "user.id",
}  # fmt: skip
_UNSPECIFIED, _INTERNAL, _SERVER, _CLIENT, _PRODUCER, _CONSUMER = range(6)


def traces(payload: Mapping[str, Any], now_ms: int, steps: SendersSteps) -> Iterator[Translated]:
    """Translate an export of spans (the JSON form of ExportTraceServiceRequest)."""
    number = 0
    for resource_spans in list_in(payload, "resourceSpans")[:MOST_RESOURCES]:
        source, shared = source_of(resource_spans)
        translated = Translated(source, [], [])
        spans: list[tuple[int, Mapping[str, Any]]] = []
        for scope_spans in list_in(resource_spans, "scopeSpans"):
            for span in list_in(scope_spans, "spans"):
                number += 1
                if number <= MOST_RECORDS:
                    spans.append((number, span))
        runs: dict[str, dict[str, Any]] = {}
        valid: list[tuple[int, _Span]] = []
        for place, raw in spans:
            try:
                span = _Span(raw)
            except (ValueError, TypeError, OverflowError) as error:
                translated.refused.append((place, str(error)[:200]))
                continue
            valid.append((place, span))
            if span.kind in (_CLIENT, _PRODUCER):
                steps.add(source.app, span.trace, _step_of(span))
            # A request inside of a job is nearer to what fails.
            if span.is_run and not (span.is_job and (span.trace in runs or steps.run_of(source.app, span.trace))):
                runs[span.trace] = _run_part(span)
                steps.set_run(source.app, span.trace, runs[span.trace])
        for place, span in valid:
            try:
                translated.reports.extend(
                    [(place, report) for report in _reports_of(span, runs, shared, source, steps)]
                )
            except (ValueError, TypeError, OverflowError) as error:
                translated.refused.append((place, str(error)[:200]))
        translated.reports.extend(_tallies(valid, source))
        yield translated
    if number > MOST_RECORDS:
        yield Translated(Source("", "", ""), [], [], number - MOST_RECORDS)


class _Span:
    """One span, its fields parsed and bounded; raises ValueError for an invalid one."""

    def __init__(self, raw: Mapping[str, Any]) -> None:
        trace, span = hex_id(raw.get("traceId"), 32), hex_id(raw.get("spanId"), 16)
        if trace is None or span is None:
            raise Untranslatable("a span needs a traceId of 32 and a spanId of 16 hexadecimal digits")
        self.trace, self.id = trace, span
        self.parent = hex_id(raw.get("parentSpanId"), 16)
        self._is_root = not str(raw.get("parentSpanId") or "").strip("0")
        kind = raw.get("kind", 0)
        self.kind = _KINDS.get(kind, 0) if isinstance(kind, str) else int(kind)
        self.name = short(str(raw.get("name", "")))
        self.start_ns = nanoseconds(raw.get("startTimeUnixNano"))
        self.end_ns = nanoseconds(raw.get("endTimeUnixNano")) or self.start_ns
        if not self.start_ns:
            raise Untranslatable("a span needs a startTimeUnixNano")
        self.attributes = _with_stable_names(attributes_of(raw.get("attributes")))
        status = dict_in(raw, "status")
        self.failed = status.get("code") in (2, "STATUS_CODE_ERROR")
        self.status_message = str(status.get("message", ""))[:MOST_TEXT]
        self.events = list_in(raw, "events")[:MOST_EVENTS]

    @property
    def is_run(self) -> bool:
        return self.kind in (_SERVER, _CONSUMER) or self.is_job

    @property
    def is_job(self) -> bool:
        """Whether nothing has called it: it was begun by a clock, or by hand."""
        return self._is_root and self.kind in (_UNSPECIFIED, _INTERNAL)

    @property
    def duration_ms(self) -> float:
        return max(0.0, (self.end_ns - self.start_ns) / 1e6)

    @property
    def status(self) -> int | None:
        value = self.attributes.get("http.response.status_code", self.attributes.get("http.status_code"))
        return value if isinstance(value, int) and 0 <= value <= 999 else None

    @property
    def outcome(self) -> str:
        status = self.status
        if self.failed or (status is not None and status >= 500):
            return "failed"
        return "refused" if status is not None and status >= 400 else "ok"

    @property
    def entry_point(self) -> str:
        method = self.attributes.get("http.request.method", self.attributes.get("http.method"))
        route = self.attributes.get("http.route")
        if method and route:
            return short(f"{method} {route}")
        if self.kind == _CONSUMER:
            name = self.attributes.get("messaging.destination.name") or self.name
            return short(f"job {name}")
        if self.is_job and self.name:
            return short(f"job {self.name}")
        return self.name or (str(method) if method else "without a name")


def _with_stable_names(attributes: dict[str, Any]) -> dict[str, Any]:
    """Add the names of the stable semantic conventions where a sender uses the earlier ones."""
    for earlier, stable in _EARLIER_NAMES.items():
        if earlier in attributes and stable not in attributes:
            attributes[stable] = attributes[earlier]
    return attributes


def _reports_of(
    span: _Span, runs: Mapping[str, dict[str, Any]], shared: dict[str, Any], source: Source, steps: SendersSteps
) -> Iterator[dict[str, Any]]:
    failures = []
    for event in span.events:
        attributes = attributes_of(event.get("attributes"))
        if event.get("name") != "exception" and "exception.type" not in attributes:
            continue
        time_ns = nanoseconds(event.get("timeUnixNano")) or span.end_ns
        report = failure_of(attributes, time_ns // 1_000_000, shared | span.attributes, source, span.trace, span.id)
        escaped = attributes.get("exception.escaped")
        # SDKs also set escaped=false where they end the span with an error because of it.
        report["handled"] = not span.failed and escaped not in (True, "true", "True")
        report["captured_by"] = "OpenTelemetry span"
        report["trail"] = steps.of(source.app, span.trace)
        its_run = runs.get(span.trace) or steps.run_of(source.app, span.trace)
        if its_run is not None:
            report["run"] = its_run
        failures.append(report)
        steps.add_failure(source.app, span.trace, report["id"])
        yield report
    if span.is_run:
        # An exception of a step inside it may have come with an earlier export.
        ids = steps.failures_of(source.app, span.trace) if not span.parent or span.failed or failures else []
        run = _run_part(span) | {"outcome": span.outcome, "failures": (ids or [f["id"] for f in failures])[:50]}
        if not run["failures"]:
            del run["failures"]
        if span.parent:
            run["parent_span_id"] = span.parent
        request: dict[str, Any] = {
            name: value
            for name, value in (
                ("method", span.attributes.get("http.request.method")),
                ("route", span.attributes.get("http.route")),
                ("url", span.attributes.get("url.full") or span.attributes.get("url.path")),
                ("client", span.attributes.get("client.address")),
            )
            if isinstance(value, str) and value
        }
        if span.status is not None:
            request["status"] = span.status
        yield {
            "kind": "run",
            "id": run["id"],
            "time": to_text(span.start_ns // 1_000_000),
            "attributes": bounded(shared | span.attributes),
            "trace_id": span.trace,
            "span_id": span.id,
            "run": run,
            "trail": steps.of(source.app, span.trace),
            **({"request": request} if request else {}),
            **({"release": source.release} if source.release else {}),
        }


def _run_part(span: _Span) -> dict[str, Any]:
    return {
        "id": derived_id(span.start_ns // 1_000_000, "run", span.trace, span.id),
        "entry_point": span.entry_point,
        "started": to_text(span.start_ns // 1_000_000),
        "duration_ms": span.duration_ms,
    }


_WHOM: Final = (
    "url.full", "server.address", "server.port", "db.system.name", "db.namespace", "messaging.destination.name", "rpc.system"
)  # fmt: skip
"""Attributes that name the called side of a step."""


def _step_of(span: _Span) -> dict[str, Any]:
    attributes = span.attributes
    if "db.system.name" in attributes or "db.system" in attributes:
        kind = "statement"
        message = attributes.get("db.query.text") or attributes.get("db.statement") or span.name
    elif any(
        name in attributes for name in ("http.request.method", "http.method", "url.full", "http.url", "rpc.system")
    ):
        kind = "http"
        address = attributes.get("url.full") or attributes.get("http.url") or ""
        message = f"{attributes.get('http.request.method', '')} {address}".strip() or span.name
    else:
        kind, message = "mark", span.name
    attributes_shown: dict[str, Any] = {"duration_ms": round(span.duration_ms, 3), "span_id": span.id}
    attributes_shown |= {name: attributes[name] for name in _WHOM if isinstance(attributes.get(name), str | int)}
    if span.status is not None:
        attributes_shown["status"] = span.status
    if span.status_message:
        attributes_shown["trouble"] = short(span.status_message)
    return {
        "kind": kind,
        "time": to_text(span.start_ns // 1_000_000),
        "severity": "ERROR" if span.failed else "INFO",
        "message": medium(str(message)),
        "attributes": attributes_shown,
    }


def _tallies(read: list[tuple[int, _Span]], source: Source) -> list[tuple[int, dict[str, Any]]]:
    """Count the runs of one export, like those of the client. The ids of the tallies follow from the spans: the same
    export sent again counts nothing twice.
    """
    groups: dict[tuple[str, str, int | None, int], list[_Span]] = defaultdict(list)
    first: dict[tuple[str, str, int | None, int], int] = {}
    for place, span in read:
        if span.is_run:
            key = (span.entry_point, span.outcome, span.status, span.start_ns // 1_000_000 // HOUR_MS)
            groups[key].append(span)
            first.setdefault(key, place)
    tallies = []
    for key, spans in groups.items():
        entry_point, outcome, status, hour = key
        report: dict[str, Any] = {
            "kind": "tally",
            "id": derived_id(
                hour * HOUR_MS,
                "tally",
                entry_point,
                outcome,
                str(status),
                *sorted(span.trace + span.id for span in spans),
            ),
            "time": to_text(min(span.start_ns for span in spans) // 1_000_000),
            "entry_point": entry_point,
            "outcome": outcome,
            "runs": len(spans),
        }
        if status is not None:
            report["status"] = status
        if source.release:
            report["release"] = source.release
        tallies.append((first[key], report))
    return tallies
