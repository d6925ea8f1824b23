"""Failures as rows of a day file, with the fields of questions. Their reports are in their evidence, their counts in the main file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

from obitus.core.asking.records import LONGEST_MESSAGE, uuid_text
from obitus.core.severity import SEVERITIES
from obitus.store.days.pairs import id_of, indexed, kept, pairs_of
from obitus.store.days.texts import Texts

ADD: Final = """
INSERT INTO failures (place, time_ms, late_ms, app_id, release_id, environment_id, severity, handled, type_id, message,
                      entry_point_id, trace_id, run_id, shared, attributes)
VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"""


@dataclass(frozen=True, slots=True)
class FailureRow:
    """A failure's row in its day's file, in addition to its evidence."""

    severity: int
    """0 for TRACE to 5 for FATAL."""
    handled: bool
    type: str
    message: str
    entry_point: str
    trace_id: bytes | None
    run_id: bytes | None
    pairs: tuple[tuple[str, bool], ...]
    indexed: str
    """Its words and terms, with spaces between."""


def row_of(content: dict[str, Any]) -> FailureRow:
    """Return the row of a failure, from its report after redaction."""
    outermost, run = content["exceptions"][0], content.get("run") or {}
    entry_point, run_id, attributes = (
        run.get("entry_point", ""),
        uuid_text(run.get("id")),
        content.get("attributes", {}),
    )
    message = outermost.get("message", "")
    named = {"entry_point": entry_point, "run": run_id, "trace_id": content.get("trace_id"), "type": outermost["type"]}
    return FailureRow(
        severity=SEVERITIES.index(content.get("severity", "ERROR")),
        handled=content.get("handled", False),
        type=outermost["type"],
        message=message[:LONGEST_MESSAGE],
        entry_point=entry_point,
        trace_id=id_of(content.get("trace_id")),
        run_id=id_of(run_id),
        pairs=pairs_of(attributes),
        indexed=indexed(f"{outermost['type']} {message[:LONGEST_MESSAGE]} {entry_point}", attributes, named),
    )


def columns(row: FailureRow, texts: Texts, environment: str) -> tuple[Any, ...]:
    """Return the columns of a failure from ``environment_id`` on."""
    shared, attributes = kept(row.pairs, texts)
    return (
        texts.number(environment),
        row.severity,
        "true" if row.handled else "false",
        texts.number(row.type),
        row.message,
        texts.number(row.entry_point),
        row.trace_id,
        row.run_id,
        shared,
        attributes,
    )
