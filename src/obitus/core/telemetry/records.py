"""From OpenTelemetry's log records to reports: those with an exception become failures, the others logs."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping
from hashlib import blake2b
from typing import Any

from obitus.core.bounds import medium, short
from obitus.core.clock import to_text
from obitus.core.ids import derived_id
from obitus.core.telemetry.failing import failure_of, placed
from obitus.core.telemetry.fields import (
    MOST_TEXT,
    Source,
    Translated,
    attributes_of,
    bounded,
    dict_in,
    hex_id,
    list_in,
    nanoseconds,
    severity_in,
    source_of,
    value_of,
)
from obitus.core.telemetry.limits import MOST_RECORDS, MOST_RESOURCES
from obitus.core.telemetry.steps import SendersSteps


def logs(payload: Mapping[str, Any], now_ms: int, steps: SendersSteps) -> Iterator[Translated]:
    """Translate an export of logs (the JSON form of ExportLogsServiceRequest)."""
    number = 0
    for resource_logs in list_in(payload, "resourceLogs")[:MOST_RESOURCES]:
        source, shared = source_of(resource_logs)
        translated = Translated(source, [], [])
        seen: dict[bytes, int] = defaultdict(int)
        for scope_logs in list_in(resource_logs, "scopeLogs"):
            scope = dict_in(scope_logs, "scope")
            for record in list_in(scope_logs, "logRecords"):
                number += 1
                if number > MOST_RECORDS:
                    continue
                try:
                    translated.reports.append(
                        (number, _log_of(record, str(scope.get("name", "")), shared, source, now_ms, seen, steps))
                    )
                except (ValueError, TypeError, OverflowError) as error:
                    translated.refused.append((number, str(error)[:200]))
        yield translated
    if number > MOST_RECORDS:
        yield Translated(Source("", "", ""), [], [], number - MOST_RECORDS)


def _log_of(
    record: Mapping[str, Any],
    scope: str,
    shared: dict[str, Any],
    source: Source,
    now_ms: int,
    seen: dict[bytes, int],
    steps: SendersSteps,
) -> dict[str, Any]:
    attributes = attributes_of(record.get("attributes"))
    time_ns = (
        nanoseconds(record.get("timeUnixNano")) or nanoseconds(record.get("observedTimeUnixNano")) or now_ms * 1_000_000
    )
    time_ms = time_ns // 1_000_000
    trace, span = hex_id(record.get("traceId"), 32), hex_id(record.get("spanId"), 16)
    severity = severity_in(record)
    body = value_of(record.get("body"))
    message = body if isinstance(body, str) else "" if body is None else json.dumps(body, ensure_ascii=False)
    if any(name in attributes for name in ("exception.type", "exception.message", "exception.stacktrace")):
        report = failure_of(attributes, time_ms, shared | attributes, source, trace, span)
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
        "attributes": bounded(shared | attributes),
    }
    return placed(report, source, trace, span)
