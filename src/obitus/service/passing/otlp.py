"""Records to a collector: OTLP/HTTP with protobuf. Failures and logs are log records, runs are spans.

Sources: the OpenTelemetry protocol specification 1.x (partial success, which answers are tried again), the semantic conventions for
exceptions (``exception.type``, ``exception.message``, ``exception.stacktrace``).
"""

from __future__ import annotations

import gzip
import re
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Final

from obitus.core.clock import to_ms
from obitus.core.passing.syslog import said
from obitus.core.severity import SEVERITIES
from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.alerting.channels.webhook import checked_headers, headers_of
from obitus.service.outward.asking import Asker, AskingTrouble, NotAllowed
from obitus.service.passing.base import PassingTrouble, Settings, Taken

NUMBERS: Final = dict(zip(SEVERITIES, (1, 5, 9, 13, 17, 21), strict=True))
AGAIN: Final = frozenset({408, 429, 500, 502, 503, 504})
_HTTP: Final = re.compile(r"(?:GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS) ")
LOGS, TRACES = "/v1/logs", "/v1/traces"


def checked(settings: Settings, secrets: Mapping[str, Any]) -> dict[str, Any]:
    """Return a collector's settings; raises SettingsTrouble."""
    if not isinstance(settings.get("url"), str):
        raise SettingsTrouble(
            "url", "the address of a collector is expected, such as http://collector.skerry.example:4318"
        )
    checked_headers(secrets)
    return {"url": settings["url"].rstrip("/")}


class OtlpTaker:
    """Exports to one collector."""

    def __init__(self, settings: Settings, secrets: Mapping[str, Any], asker: Asker) -> None:
        self._url, self._asker = checked(settings, secrets)["url"], asker
        self._headers = headers_of(secrets)

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return the parts for the collector's logs and for its traces."""
        runs = [record for record in batch if record.get("kind") == "run"]
        others = [record for record in batch if record.get("kind") != "run"]
        return [part for part in (others, runs) if part]

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Export one part of a batch and return the result; raises PassingTrouble."""
        return self._export(TRACES if batch[0].get("kind") == "run" else LOGS, batch)

    def close(self) -> None:
        """Nothing is held open."""

    def _export(self, path: str, records: Sequence[dict[str, Any]]) -> Taken:
        body = gzip.compress(logs_of(records) if path == LOGS else traces_of(records), 1)
        headers = self._headers | {
            "Content-Type": "application/x-protobuf",
            "Content-Encoding": "gzip",
            "User-Agent": "obitus",
        }
        try:
            answer = self._asker.post(self._url + path, body, headers, near=True)
        except (AskingTrouble, NotAllowed) as error:
            raise PassingTrouble(str(error)) from None
        if not answer.is_taken:
            for_good = answer.status not in AGAIN and answer.status not in (401, 403, 404)
            raise PassingTrouble(answer.said(), for_good=for_good, after_s=answer.after_s)
        return _partial(path, answer.body)


def _partial(path: str, body: bytes) -> Taken:
    from google.protobuf.message import DecodeError
    from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceResponse
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceResponse

    answer: Any = ExportLogsServiceResponse() if path == LOGS else ExportTraceServiceResponse()
    try:
        answer.ParseFromString(body)
    except DecodeError:
        # It was accepted; the answer's body is invalid.
        return Taken()
    partial = answer.partial_success
    refused = partial.rejected_log_records if path == LOGS else partial.rejected_spans
    return Taken(int(refused), f"refused {refused}: {partial.error_message}" if refused else str(partial.error_message))


def logs_of(records: Sequence[Mapping[str, Any]]) -> bytes:
    """Return failures, logs, issue changes and alerts as an export of logs."""
    from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

    request = ExportLogsServiceRequest()
    for source, some in _by_source(records).items():
        part = request.resource_logs.add()
        scope = _scope(part.resource, source, part.scope_logs)
        for record in some:
            out = scope.log_records.add()
            out.time_unix_nano = _nanoseconds(record)
            severity = str(record.get("severity") or "INFO")
            out.severity_number = NUMBERS.get(severity, 9)
            out.severity_text = severity
            out.body.string_value = said(record)
            _ids(out, record)
            _attributes(out.attributes, _all_attributes(record))
    return bytes(request.SerializeToString())


def traces_of(records: Sequence[Mapping[str, Any]]) -> bytes:
    """Return runs as an export of spans."""
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
    from opentelemetry.proto.trace.v1.trace_pb2 import Span, Status

    request = ExportTraceServiceRequest()
    for source, some in _by_source(records).items():
        part = request.resource_spans.add()
        scope = _scope(part.resource, source, part.scope_spans)
        for record in some:
            out, run = scope.spans.add(), record.get("run") or {}
            out.name = str(run.get("entry_point") or "run")
            out.kind = (
                Span.SPAN_KIND_CONSUMER
                if out.name.startswith("job ")
                else Span.SPAN_KIND_SERVER
                if record.get("request") or _HTTP.match(out.name)
                else Span.SPAN_KIND_INTERNAL
            )
            end = _nanoseconds(record)
            out.end_time_unix_nano = end
            out.start_time_unix_nano = max(0, end - int(float(run.get("duration_ms") or 0) * 1e6))
            _ids(out, record)
            if parent := _bytes(run.get("parent_span_id"), 8):
                out.parent_span_id = parent
            out.status.code = Status.STATUS_CODE_ERROR if run.get("outcome") == "failed" else Status.STATUS_CODE_UNSET
            _attributes(out.attributes, _all_attributes(record) | _of_run(record))
    return bytes(request.SerializeToString())


def _of_run(record: Mapping[str, Any]) -> dict[str, Any]:
    """Return a run's request by OpenTelemetry's names, and the run's status."""
    request, run = record.get("request") or {}, record.get("run") or {}
    found = {
        "obitus.outcome": run.get("outcome"),
        "http.request.method": request.get("method"),
        "http.response.status_code": request.get("status"),
        "url.full": request.get("url"),
        "http.route": request.get("route"),
    }
    return {name: value for name, value in found.items() if value not in (None, "")}


def _by_source(records: Sequence[Mapping[str, Any]]) -> dict[tuple[str, str, str], list[Mapping[str, Any]]]:
    records_by_source: dict[tuple[str, str, str], list[Mapping[str, Any]]] = {}
    for record in records:
        key = (str(record.get("app") or ""), str(record.get("release") or ""), str(record.get("environment") or ""))
        records_by_source.setdefault(key, []).append(record)
    return records_by_source


def _scope(resource: Any, source: tuple[str, str, str], scopes: Any) -> Any:
    """Set the resource of a source's records, and return where they are added."""
    named = zip(("service.name", "service.version", "deployment.environment.name"), source, strict=True)
    _attributes(resource.attributes, {name: value for name, value in named if value})
    scope = scopes.add()
    scope.scope.name = "obitus"
    return scope


def _all_attributes(record: Mapping[str, Any]) -> dict[str, Any]:
    attributes = {str(name): value for name, value in (record.get("attributes") or {}).items()}
    attributes |= {
        "obitus.kind": record.get("kind"),
        "obitus.id": record.get("id"),
        "obitus.number": record.get("number"),
    }
    if record.get("kind") == "failure":
        outermost = (record.get("exceptions") or [{}])[0]
        attributes |= {
            "exception.type": outermost.get("type"),
            "exception.message": outermost.get("message"),
            "exception.stacktrace": _stack(record),
            "obitus.issue": record.get("issue"),
        }
    return {name: value for name, value in attributes.items() if value not in (None, "")}


def _stack(record: Mapping[str, Any]) -> str:
    lines = []
    for link in record.get("exceptions") or ():
        lines.append(f"{link.get('type', '')}: {link.get('message', '')}")
        lines += [
            f"  at {frame.get('function', '?')} ({frame.get('file', '?')}:{frame.get('line', '?')})"
            for frame in reversed(link.get("frames") or ())
        ]
    return "\n".join(lines)


def _attributes(into: Any, attributes: Mapping[str, Any]) -> None:
    for name, value in attributes.items():
        pair = into.add()
        pair.key = name
        if isinstance(value, bool):
            pair.value.bool_value = value
        elif isinstance(value, int) and -(2**63) <= value < 2**63:
            pair.value.int_value = value
        elif isinstance(value, float):
            pair.value.double_value = value
        else:
            pair.value.string_value = value if isinstance(value, str) else str(value)


def _ids(out: Any, record: Mapping[str, Any]) -> None:
    if trace := _bytes(record.get("trace_id"), 16):
        out.trace_id = trace
    if span := _bytes(record.get("span_id"), 8):
        out.span_id = span


def _bytes(text: Any, length: int) -> bytes | None:
    try:
        data = bytes.fromhex(str(text)) if text else b""
    except ValueError:
        return None
    return data if len(data) == length else None


def _nanoseconds(record: Mapping[str, Any]) -> int:
    try:
        return to_ms(datetime.fromisoformat(str(record.get("time")))) * 1_000_000
    except ValueError:
        return 0
