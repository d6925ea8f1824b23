"""Log records as rows of a day file."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any, Final, NamedTuple
from uuid import UUID

from obitus.core.asking.records import uuid_text
from obitus.core.severity import SEVERITIES
from obitus.core.templates import SEPARATOR, filled_in, values_in
from obitus.core.values_in_text import said_by
from obitus.store.days.pairs import attributes_of, id_of, indexed, kept, pairs_of
from obitus.store.days.texts import NOTHING, Texts
from obitus.store.rows.records import LogRow

ADD: Final = """
INSERT INTO logs (place, time_ms, late_ms, app_id, release_id, environment_id, severity, logger_id, template_id, message_id,
                  message, filled, trace_id, span_id, run_id, entry_point_id, shared, attributes, rest)
VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"""
SOME: Final = f"SELECT {', '.join(LogRow._fields)} FROM logs WHERE place IN (SELECT value FROM json_each(?))"  # noqa: S608 - columns, of a type


class LogFacts(NamedTuple):
    """A log record's row: all of it, in columns."""

    severity: int
    """0 for TRACE to 5 for FATAL."""
    logger: str
    template: str
    message: str
    trace_id: bytes | None
    span_id: bytes | None
    run_id: bytes | None
    entry_point: str
    pairs: tuple[tuple[str, bool], ...]
    """Its attributes, as ``pairs.pairs_of`` gives them."""
    rest: str | None
    """JSON: the fields of the report without a column."""
    indexed: str
    """Its words and terms, with spaces between."""
    warns: str = ""
    """Its constant text, where it is of WARN or worse."""
    tracepoint: int = 0
    """The number of the tracepoint that made it; 0 for none."""


_WARN: Final = SEVERITIES.index("WARN")
_HAVE_COLUMNS: Final = frozenset(
    {
        "kind",
        "id",
        "time",
        "release",
        "severity",
        "logger",
        "template",
        "message",
        "attributes",
        "trace_id",
        "span_id",
        "run",
    }
)


def facts_of(content: dict[str, Any]) -> LogFacts:
    """Return the row of a log record, from its report after redaction."""
    run = dict(content.get("run") or {})
    entry_point, run_id = run.pop("entry_point", ""), uuid_text(run.pop("id", None))
    rest = {name: value for name, value in content.items() if name not in _HAVE_COLUMNS}
    if run:
        rest["run"] = run
    message, logger, attributes = content["message"], content.get("logger", ""), content.get("attributes", {})
    named = {"logger": logger, "entry_point": entry_point, "run": run_id, "trace_id": content.get("trace_id")}
    severity, template = SEVERITIES.index(content.get("severity", "INFO")), content.get("template", "")
    return LogFacts(
        severity=severity,
        logger=logger,
        template=template,
        message=message,
        trace_id=id_of(content.get("trace_id")),
        span_id=id_of(content.get("span_id")),
        run_id=id_of(run_id),
        entry_point=entry_point,
        pairs=pairs_of(attributes),
        rest=json.dumps(rest, ensure_ascii=False, separators=(",", ":")) if rest else None,
        indexed=indexed(message, attributes, named),
        tracepoint=(content.get("hit") or {}).get("tracepoint", 0),
        warns=(said_by(template, message) or "(nothing)") if severity >= _WARN else "",
    )


def columns(facts: LogFacts, texts: Texts, environment: str) -> tuple[Any, ...]:
    """Return the columns of a log record from ``environment_id`` on."""
    template_id, message_id, message, filled = _message(facts, texts)
    shared, attributes = kept(facts.pairs, texts)
    return (
        texts.number(environment),
        facts.severity,
        texts.number(facts.logger),
        template_id,
        message_id,
        message,
        filled,
        facts.trace_id,
        facts.span_id,
        facts.run_id,
        texts.number(facts.entry_point),
        shared,
        attributes,
        facts.rest,
    )


def _message(facts: LogFacts, texts: Texts) -> tuple[int, int, str | None, str | None]:
    """Return a message as number of its template, number of a text, text, and values. The text is in the row only
    where no repeated text has it.
    """
    if not facts.template:
        number = texts.number_if_it_repeats(facts.message)
        return (NOTHING, NOTHING, facts.message, None) if number is None else (NOTHING, number, None, None)
    if facts.template == facts.message:
        # An app's template may be a message that never comes again.
        number = texts.number_if_it_repeats(facts.template)
        return (NOTHING, NOTHING, facts.message, "") if number is None else (number, NOTHING, None, None)
    values = values_in(facts.template, facts.message)
    if values is None:
        return texts.number(facts.template), NOTHING, facts.message, None
    return texts.number(facts.template), NOTHING, None, SEPARATOR.join(values)


def message_of(template: str, repeated: str, message: str | None, filled: str | None) -> str:
    """Return the message of a row: from its template, a repeated text, its own text, and values."""
    if message is not None:
        return message
    if filled is not None:
        return filled_in(template, filled.split(SEPARATOR))
    return repeated or template


def report_of(row: LogRow, text_of: Callable[[int], str]) -> dict[str, Any]:
    """Return a log record as it was reported, without its id, time and release."""
    template, message, filled = text_of(row.template_id), row.message, row.filled
    report: dict[str, Any] = {
        "kind": "log",
        "severity": SEVERITIES[row.severity],
        "logger": text_of(row.logger_id),
        "message": message_of(template, text_of(row.message_id), message, filled),
        "template": message if filled == "" and message is not None else template,
        "attributes": attributes_of(row.shared, row.attributes, text_of),
    }
    for name, value in (("trace_id", row.trace_id), ("span_id", row.span_id)):
        if value is not None:
            report[name] = value.hex()
    rest = json.loads(row.rest) if row.rest else {}
    run = rest.pop("run", {})
    if row.entry_point_id != NOTHING:
        run["entry_point"] = text_of(row.entry_point_id)
    if row.run_id is not None:
        run["id"] = str(UUID(bytes=row.run_id))
    return report | rest | ({"run": run} if run else {})
