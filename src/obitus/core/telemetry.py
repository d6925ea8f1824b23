"""From OpenTelemetry's log records and spans to reports. Pure: what was kept of earlier spans is handed in.

Exceptions on log records and on spans become failures, other log records become logs; server and consumer spans become
runs, and the calls they made their steps. Sources: the OpenTelemetry protocol 1.x in its JSON form, and its semantic
conventions for exceptions, HTTP, databases and messaging.
"""

from __future__ import annotations

import json
from collections import Counter, OrderedDict, defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from hashlib import blake2b
from threading import Lock
from typing import Any, Final

from obitus.core.bounds import medium, short
from obitus.core.clock import HOUR_MS, to_text
from obitus.core.ids import derived_id
from obitus.core.severity import SEVERITIES, severity_of
from obitus.core.stacks import report_form, stack_of

MOST_TRACES: Final = 2000
MOST_STEPS: Final = 100
MOST_ATTRIBUTES: Final = 200
MOST_TEXT: Final = 8000
MOST_RECORDS: Final = 5000
"""Log records or spans of one export that are read; what is beyond is said to be left out."""
MOST_RESOURCES: Final = 200
MOST_EVENTS: Final = 50
MOST_VALUES: Final = 2000
"""Values, nested ones too, of one record."""
MOST_KEPT_BYTES: Final = 8 * 1024 * 1024
MOST_KEPT_BYTES_OF_A_SENDER: Final = 2 * 1024 * 1024
_KINDS: Final = {"SPAN_KIND_INTERNAL": 1, "SPAN_KIND_SERVER": 2, "SPAN_KIND_CLIENT": 3, "SPAN_KIND_PRODUCER": 4, "SPAN_KIND_CONSUMER": 5}  # fmt: skip
# OpenTelemetry's semantic conventions before 1.23 (HTTP) and 1.28 (databases), as many SDKs still write them.
_EARLIER_NAMES: Final = {
    "http.method": "http.request.method", "http.url": "url.full", "http.target": "url.path", "http.status_code": "http.response.status_code",
    "http.scheme": "url.scheme", "http.client_ip": "client.address", "http.user_agent": "user_agent.original", "net.peer.name": "server.address",
    "net.peer.port": "server.port", "db.statement": "db.query.text", "db.system": "db.system.name", "db.operation": "db.operation.name",
    "messaging.destination": "messaging.destination.name", "enduser.id": "user.id",
}  # fmt: skip
_SERVER, _CLIENT, _PRODUCER, _CONSUMER = 2, 3, 4, 5
_OWN_NAMES: Final = ("service.name", "service.version", "deployment.environment.name", "deployment.environment")


@dataclass(frozen=True, slots=True)
class Source:
    """Who sent it, as the resource says: service name, version and environment, ``""`` where it does not say."""

    app: str
    release: str
    environment: str


@dataclass(frozen=True, slots=True)
class Translated:
    """Reports of one source, each with the number of the record it was made of; and the records that make none, with why."""

    source: Source
    reports: list[tuple[int, dict[str, Any]]]
    refused: list[tuple[int, str]]
    left_out: int = 0
    """How many records were not looked at, because there were too many."""


TraceSoFar = tuple[str, str, list[str], tuple[list[str], dict[str, Any]]]
"""App and id of a trace, its steps as JSON, the ids of its failures, and its run."""


class Steps:
    """The latest steps of traces whose own span has not come yet. Bounded in bytes, in all and for each sender; the oldest goes first.

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
        """Return the steps of one sender, which sees no other's: its reporting key."""
        return SendersSteps(self, sender)

    def link(self, place: tuple[str, str, str]) -> tuple[list[str], dict[str, Any]]:
        """Return what is known of a trace: the ids of its failures, and its run."""
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
            kept = self._by_trace.setdefault(place, _Kept())
            self._by_trace.move_to_end(place)
            if len(kept.steps) < MOST_STEPS and packed not in kept.steps:
                kept.steps[packed] = None
                kept.bytes += len(packed)
                self._bytes[sender] += len(packed)
            while self._bytes[sender] > MOST_KEPT_BYTES_OF_A_SENDER:
                self._forget(next(other for other in self._by_trace if other[0] == sender))
            while len(self._by_trace) > MOST_TRACES or self.kept_bytes > MOST_KEPT_BYTES:
                self._forget(next(iter(self._by_trace)))

    def of(self, place: tuple[str, str, str]) -> list[dict[str, Any]]:
        """Return the steps of a trace so far, in order of time."""
        with self._lock:
            kept = self._by_trace.get(place)
            packed = list(kept.steps) if kept is not None else []
        return sorted(map(json.loads, packed), key=lambda step: str(step["time"]))

    def all_of(self, sender: str) -> list[TraceSoFar]:
        """Return all that is remembered for one sender, so that another process may go on with it."""
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

    def bring(self, sender: str, traces: list[TraceSoFar]) -> None:
        """Remember for one sender what ``all_of`` returned, beside what is remembered already."""
        for app, trace, steps, (ids, run) in traces:
            place = (sender, app, trace)
            for packed in steps:
                self._keep(place, packed)
            if ids or run:
                known, known_run = self.link(place)
                known += [one for one in ids if one not in known][: MOST_STEPS - len(known)]
                known_run.update(run)

    def _forget(self, place: tuple[str, str, str]) -> None:
        self._bytes[place[0]] -= self._by_trace.pop(place).bytes
        if self._bytes[place[0]] <= 0:
            del self._bytes[place[0]]


class SendersSteps:
    """What is remembered of the traces of one sender. Each service that it speaks for has its own of a trace."""

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


class Untranslatable(ValueError):
    """One record cannot be read; the message says why."""


def logs(payload: Mapping[str, Any], now_ms: int, steps: SendersSteps) -> Iterator[Translated]:
    """Translate an export of logs (the JSON form of ExportLogsServiceRequest)."""
    number = 0
    for resource_logs in _list(payload, "resourceLogs")[:MOST_RESOURCES]:
        source, shared = _source(resource_logs)
        found = Translated(source, [], [])
        seen: dict[bytes, int] = defaultdict(int)
        for scope_logs in _list(resource_logs, "scopeLogs"):
            scope = _dict(scope_logs, "scope")
            for record in _list(scope_logs, "logRecords"):
                number += 1
                if number > MOST_RECORDS:
                    continue
                try:
                    found.reports.append(
                        (number, _log(record, str(scope.get("name", "")), shared, source, now_ms, seen, steps))
                    )
                except (ValueError, TypeError, OverflowError) as error:
                    found.refused.append((number, str(error)[:200]))
        yield found
    if number > MOST_RECORDS:
        yield Translated(Source("", "", ""), [], [], number - MOST_RECORDS)


def traces(payload: Mapping[str, Any], now_ms: int, steps: SendersSteps) -> Iterator[Translated]:
    """Translate an export of spans (the JSON form of ExportTraceServiceRequest)."""
    number = 0
    for resource_spans in _list(payload, "resourceSpans")[:MOST_RESOURCES]:
        source, shared = _source(resource_spans)
        found = Translated(source, [], [])
        spans: list[tuple[int, Mapping[str, Any]]] = []
        for scope_spans in _list(resource_spans, "scopeSpans"):
            for span in _list(scope_spans, "spans"):
                number += 1
                if number <= MOST_RECORDS:
                    spans.append((number, span))
        runs: dict[str, dict[str, Any]] = {}
        told: list[tuple[int, _Span]] = []
        for place, raw in spans:
            try:
                span = _Span(raw)
            except (ValueError, TypeError, OverflowError) as error:
                found.refused.append((place, str(error)[:200]))
                continue
            told.append((place, span))
            if span.kind in (_CLIENT, _PRODUCER):
                steps.add(source.app, span.trace, _step(span))
            if span.is_run:
                runs[span.trace] = _run_part(span)
                steps.set_run(source.app, span.trace, runs[span.trace])
        for place, span in told:
            try:
                found.reports.extend([(place, report) for report in _of_span(span, runs, shared, source, steps)])
            except (ValueError, TypeError, OverflowError) as error:
                found.refused.append((place, str(error)[:200]))
        found.reports.extend(_tallies(told, source))
        yield found
    if number > MOST_RECORDS:
        yield Translated(Source("", "", ""), [], [], number - MOST_RECORDS)


class _Span:
    """One span, its fields read and bounded; raises ValueError for what cannot be."""

    def __init__(self, raw: Mapping[str, Any]) -> None:
        trace, span = _hex(raw.get("traceId"), 32), _hex(raw.get("spanId"), 16)
        if trace is None or span is None:
            raise Untranslatable("a span needs a traceId of 32 and a spanId of 16 hexadecimal digits")
        self.trace, self.id = trace, span
        self.parent = _hex(raw.get("parentSpanId"), 16)
        kind = raw.get("kind", 0)
        self.kind = _KINDS.get(kind, 0) if isinstance(kind, str) else int(kind)
        self.name = short(str(raw.get("name", "")))
        self.start_ns = _nanoseconds(raw.get("startTimeUnixNano"))
        self.end_ns = _nanoseconds(raw.get("endTimeUnixNano")) or self.start_ns
        if not self.start_ns:
            raise Untranslatable("a span needs a startTimeUnixNano")
        self.attributes = _with_stable_names(_attributes(raw.get("attributes")))
        status = _dict(raw, "status")
        self.failed = status.get("code") in (2, "STATUS_CODE_ERROR")
        self.status_message = str(status.get("message", ""))[:MOST_TEXT]
        self.events = _list(raw, "events")[:MOST_EVENTS]

    @property
    def is_run(self) -> bool:
        return self.kind in (_SERVER, _CONSUMER)

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
        return self.name or (str(method) if method else "without a name")


def _with_stable_names(attributes: dict[str, Any]) -> dict[str, Any]:
    """Add the names of the stable semantic conventions where a sender uses the earlier ones."""
    for earlier, stable in _EARLIER_NAMES.items():
        if earlier in attributes and stable not in attributes:
            attributes[stable] = attributes[earlier]
    return attributes


def _of_span(
    span: _Span, runs: Mapping[str, dict[str, Any]], shared: dict[str, Any], source: Source, steps: SendersSteps
) -> Iterator[dict[str, Any]]:
    failures = []
    for event in span.events:
        attributes = _attributes(event.get("attributes"))
        if event.get("name") != "exception" and "exception.type" not in attributes:
            continue
        time_ns = _nanoseconds(event.get("timeUnixNano")) or span.end_ns
        report = _failure(attributes, time_ns // 1_000_000, shared | span.attributes, source, span.trace, span.id)
        escaped = attributes.get("exception.escaped")
        # SDKs say that it did not escape also where they end the span with an error because of it.
        report["handled"] = not span.failed and escaped not in (True, "true", "True")
        report["captured_by"] = "OpenTelemetry span"
        report["trail"] = steps.of(source.app, span.trace)
        run_part = runs.get(span.trace) or steps.run_of(source.app, span.trace)
        if run_part is not None:
            report["run"] = run_part
        failures.append(report)
        steps.add_failure(source.app, span.trace, report["id"])
        yield report
    if span.is_run:
        # What a step inside it raised may have come with an export before this one.
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
            "attributes": _bounded(shared | span.attributes),
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
"""Attributes that say whom a step called."""


def _step(span: _Span) -> dict[str, Any]:
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
    shown: dict[str, Any] = {"duration_ms": round(span.duration_ms, 3), "span_id": span.id}
    shown |= {name: attributes[name] for name in _WHOM if isinstance(attributes.get(name), str | int)}
    if span.status is not None:
        shown["status"] = span.status
    if span.status_message:
        shown["trouble"] = short(span.status_message)
    return {
        "kind": kind,
        "time": to_text(span.start_ns // 1_000_000),
        "severity": "ERROR" if span.failed else "INFO",
        "message": medium(str(message)),
        "attributes": shown,
    }


def _tallies(told: list[tuple[int, _Span]], source: Source) -> list[tuple[int, dict[str, Any]]]:
    """Count the runs of one export, so that traffic is counted as it is for the client's own runs.

    Their ids come from the spans counted: the same export sent again counts nothing twice.
    """
    groups: dict[tuple[str, str, int | None, int], list[_Span]] = defaultdict(list)
    first: dict[tuple[str, str, int | None, int], int] = {}
    for place, span in told:
        if span.is_run:
            key = (span.entry_point, span.outcome, span.status, span.start_ns // 1_000_000 // HOUR_MS)
            groups[key].append(span)
            first.setdefault(key, place)
    found = []
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
        found.append((first[key], report))
    return found


def _log(
    record: Mapping[str, Any],
    scope: str,
    shared: dict[str, Any],
    source: Source,
    now_ms: int,
    seen: dict[bytes, int],
    steps: SendersSteps,
) -> dict[str, Any]:
    attributes = _attributes(record.get("attributes"))
    time_ns = (
        _nanoseconds(record.get("timeUnixNano"))
        or _nanoseconds(record.get("observedTimeUnixNano"))
        or now_ms * 1_000_000
    )
    time_ms = time_ns // 1_000_000
    trace, span = _hex(record.get("traceId"), 32), _hex(record.get("spanId"), 16)
    severity = _severity(record)
    body = _value(record.get("body"))
    message = body if isinstance(body, str) else "" if body is None else json.dumps(body, ensure_ascii=False)
    if any(name in attributes for name in ("exception.type", "exception.message", "exception.stacktrace")):
        report = _failure(attributes, time_ms, shared | attributes, source, trace, span)
        report["severity"] = severity if severity in ("WARN", "ERROR", "FATAL") else "ERROR"
        report["handled"] = severity != "FATAL"
        report["captured_by"] = short(f"OpenTelemetry log {scope}").strip()
        report["trail"] = [] if trace is None else steps.of(source.app, trace)
        if message:
            report["attributes"]["log.message"] = medium(message)
        return report
    content = f"{severity}\0{scope}\0{message}\0{json.dumps(attributes, sort_keys=True, default=str)}"
    digest = blake2b(f"{time_ns}\0{trace}\0{span}\0{content}".encode("utf-8", "surrogatepass"), digest_size=16).digest()
    # The very same record twice in one export was logged twice.
    seen[digest] += 1
    report = {
        "kind": "log",
        "id": derived_id(time_ms, digest.hex(), source.app, str(seen[digest])),
        "time": to_text(time_ms),
        "severity": severity,
        "logger": short(scope),
        "message": message[:MOST_TEXT],
        "attributes": _bounded(shared | attributes),
    }
    return _placed(report, source, trace, span)


def _failure(
    attributes: Mapping[str, Any],
    time_ms: int,
    shared: dict[str, Any],
    source: Source,
    trace: str | None,
    span: str | None,
) -> dict[str, Any]:
    kind, message, text = (str(attributes.get(f"exception.{name}") or "") for name in ("type", "message", "stacktrace"))
    found = stack_of(short(kind), message[:MOST_TEXT], text)
    # A trace records one exception on every span that it passes through, and perhaps in a log: it is one failure.
    parts = [trace, kind, message] if trace is not None else [str(time_ms), kind, message, text]
    report: dict[str, Any] = {
        "kind": "failure",
        "id": derived_id(0 if trace is not None else time_ms, "failure", source.app, *(part or "" for part in parts)),
        "time": to_text(time_ms),
        "severity": "ERROR",
        "exceptions": report_form(found.chain),
        "attributes": _bounded({n: v for n, v in shared.items() if not n.startswith("exception.")}),
    }
    return _placed(report, source, trace, span)


def _placed(report: dict[str, Any], source: Source, trace: str | None, span: str | None) -> dict[str, Any]:
    if trace is not None:
        report["trace_id"] = trace
    if span is not None:
        report["span_id"] = span
    if source.release:
        report["release"] = source.release
    return report


def _source(resource_part: Mapping[str, Any]) -> tuple[Source, dict[str, Any]]:
    attributes = _attributes(_dict(resource_part, "resource").get("attributes"))
    environment = attributes.get("deployment.environment.name") or attributes.get("deployment.environment") or ""
    source = Source(
        str(attributes.get("service.name") or "")[:100],
        short(str(attributes.get("service.version") or "")),
        str(environment)[:100],
    )
    # What every process says of itself (its command line, its runtime) is little worth on each record.
    shared = {n: v for n, v in attributes.items() if n not in _OWN_NAMES or n == "service.name"}
    return source, dict(list(shared.items())[:60])


def _attributes(raw: Any) -> dict[str, Any]:
    if not isinstance(raw, list):
        return {}
    return {
        short(str(one["key"])): _value(one.get("value"))
        for one in raw[:MOST_ATTRIBUTES]
        if isinstance(one, dict) and "key" in one
    }


def _bounded(attributes: dict[str, Any]) -> dict[str, Any]:
    return {n: v[:MOST_TEXT] if isinstance(v, str) else v for n, v in list(attributes.items())[:MOST_ATTRIBUTES]}


def _value(raw: Any, deep: int = 0) -> Any:
    if not isinstance(raw, dict) or deep > 8:
        return None
    if "intValue" in raw:
        try:
            return int(raw["intValue"])
        except (ValueError, TypeError, OverflowError):
            # Said to be a number, and none: it is kept as it came.
            return str(raw["intValue"])[:MOST_TEXT]
    for name in ("stringValue", "boolValue", "doubleValue", "bytesValue"):
        if name in raw:
            return raw[name]
    if "arrayValue" in raw:
        return [_value(one, deep + 1) for one in _list(raw["arrayValue"], "values")[:MOST_ATTRIBUTES]]
    if "kvlistValue" in raw:
        return {
            short(str(one.get("key"))): _value(one.get("value"), deep + 1)
            for one in _list(raw["kvlistValue"], "values")[:MOST_ATTRIBUTES]
        }
    return None


def _severity(record: Mapping[str, Any]) -> str:
    number = record.get("severityNumber", 0)
    if isinstance(number, str):
        name = number.removeprefix("SEVERITY_NUMBER_").rstrip("234")
        return name if name in SEVERITIES else "INFO"
    if 1 <= int(number) <= 24:
        return SEVERITIES[(int(number) - 1) // 4]
    return severity_of(str(record.get("severityText", ""))) or "INFO"


def _hex(value: Any, digits: int) -> str | None:
    text = str(value or "").lower()
    if len(text) != digits or not text.strip("0") or text.strip("0123456789abcdef"):
        return None
    return text


def _nanoseconds(value: Any) -> int:
    number = int(value or 0)
    if not 0 <= number < 2**63:
        raise Untranslatable(f"{number} is no time in nanoseconds")
    return number


def _list(holder: Any, name: str) -> list[Any]:
    value = holder.get(name) if isinstance(holder, Mapping) else None
    return [one for one in value if isinstance(one, Mapping)] if isinstance(value, list) else []


def _dict(holder: Mapping[str, Any], name: str) -> Mapping[str, Any]:
    value = holder.get(name)
    return value if isinstance(value, Mapping) else {}
