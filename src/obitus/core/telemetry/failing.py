"""Exceptions of log records and spans, as failures."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from obitus.core.bounds import short
from obitus.core.clock import to_text
from obitus.core.ids import derived_id
from obitus.core.stacks import report_form, stack_of
from obitus.core.telemetry.fields import MOST_TEXT, Source, bounded


def failure_of(
    attributes: Mapping[str, Any],
    time_ms: int,
    shared: dict[str, Any],
    source: Source,
    trace: str | None,
    span: str | None,
) -> dict[str, Any]:
    """Return the failure of an exception, from its attributes; ``shared`` are all attributes of its record or span."""
    kind, message, text = (str(attributes.get(f"exception.{name}") or "") for name in ("type", "message", "stacktrace"))
    found = stack_of(short(kind), message[:MOST_TEXT], text)
    # SDKs record one exception on every span that it passes through, and perhaps in a log: it is one failure.
    parts = [trace, kind, message] if trace is not None else [str(time_ms), kind, message, text]
    report: dict[str, Any] = {
        "kind": "failure",
        "id": derived_id(0 if trace is not None else time_ms, "failure", source.app, *(part or "" for part in parts)),
        "time": to_text(time_ms),
        "severity": "ERROR",
        "exceptions": report_form(found.chain),
        "attributes": bounded({n: v for n, v in shared.items() if not n.startswith("exception.")}),
    }
    return placed(report, source, trace, span)


def placed(report: dict[str, Any], source: Source, trace: str | None, span: str | None) -> dict[str, Any]:
    """Add trace, span and release to a report, where they are known."""
    if trace is not None:
        report["trace_id"] = trace
    if span is not None:
        report["span_id"] = span
    if source.release:
        report["release"] = source.release
    return report
