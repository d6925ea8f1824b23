"""From the bytes of an OTLP export to reports, one JSON line each. Nothing here reads or writes the store."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal

from google.protobuf.json_format import MessageToDict
from google.protobuf.message import DecodeError, Message
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest, ExportLogsServiceResponse
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import (
    ExportTraceServiceRequest,
    ExportTraceServiceResponse,
)

from obitus.core import telemetry
from obitus.core.telemetry import SendersSteps, Source, Steps, TraceSoFar, Translated
from obitus.service.intake import export_bounds
from obitus.service.intake.inflating import whole
from obitus.service.intake.lines import without_surrogates
from obitus.service.problems import Problem
from obitus.service.settings import Limits

Signal = Literal["logs", "traces"]

PROTOBUF: Final = "application/x-protobuf"
MESSAGES: Final[dict[Signal, tuple[type[Message], type[Message], str]]] = {
    "logs": (ExportLogsServiceRequest, ExportLogsServiceResponse, "rejectedLogRecords"),
    "traces": (ExportTraceServiceRequest, ExportTraceServiceResponse, "rejectedSpans"),
}
_TRANSLATE: Final[dict[Signal, Callable[..., Iterator[Translated]]]] = {
    "logs": telemetry.logs,
    "traces": telemetry.traces,
}


@dataclass(frozen=True, slots=True)
class SourceReports:
    """The reports of one source: a line each, with the number of its record; and records without a report, with the reason."""

    source: Source
    numbers: list[int]
    lines: list[bytes]
    refused: list[tuple[int, str]]
    left_out: int


@dataclass(frozen=True, slots=True)
class Export:
    """The bytes of an export, and their form."""

    signal: Signal
    media: str
    raw: Sequence[bytes]
    encoding: str
    now_ms: int


def read(export: Export, limits: Limits, steps: SendersSteps) -> list[SourceReports]:
    """Read an export; raises a problem where it is none."""
    signal, body = export.signal, whole(export.raw, export.encoding, limits)
    left_out = 0
    try:
        if export.media == PROTOBUF:
            body, left_out = export_bounds.bounded_export(body, telemetry.MOST_RECORDS, telemetry.MOST_RESOURCES)
            message = MESSAGES[signal][0]()
            message.ParseFromString(body)
            payload = MessageToDict(message, use_integers_for_enums=True)
            _ids_in_hex(payload)
        else:
            payload = json.loads(body or b"{}")
            if b"\\ud" in body.lower():
                payload = without_surrogates(body)
    except (DecodeError, ValueError, RecursionError) as error:
        raise Problem(
            "not-otlp", f"The body cannot be read as an OTLP export of {signal}: {str(error)[:200]}."
        ) from None
    if not isinstance(payload, dict):
        raise Problem("not-otlp", "An OTLP export in JSON is an object.")
    parts = [_part(one) for one in _TRANSLATE[signal](payload, export.now_ms, steps)]
    return [*parts, SourceReports(Source("", "", ""), [], [], [], left_out)] if left_out else parts


def read_apart(
    export: Export, limits: Limits, sender: str, traces_known: list[TraceSoFar]
) -> tuple[list[SourceReports], list[TraceSoFar]]:
    """The same in a worker process, which gets the memory of the sender's traces and returns it changed."""
    steps = Steps()
    steps.add_all(sender, traces_known)
    return read(export, limits, steps.of_sender(sender)), steps.all_of(sender)


def _part(translated: Translated) -> SourceReports:
    lines = [
        json.dumps(report, ensure_ascii=False, default=str).encode("utf-8", "replace")
        for _, report in translated.reports
    ]
    numbers = [number for number, _ in translated.reports]
    return SourceReports(translated.source, numbers, lines, translated.refused, translated.left_out)


def _ids_in_hex(payload: Any) -> None:
    """Convert ids from base64, as in protobuf's own JSON form, to hexadecimal digits, as in OTLP's JSON form."""
    waiting = [payload]
    while waiting:
        holder = waiting.pop()
        if isinstance(holder, list):
            waiting += holder
        elif isinstance(holder, dict):
            for name, value in holder.items():
                if name in ("traceId", "spanId", "parentSpanId") and isinstance(value, str):
                    holder[name] = base64.b64decode(value).hex()
                elif isinstance(value, dict | list) and name not in ("attributes", "body"):
                    waiting.append(value)
