"""Whole runs as rows of a day file; their requests and steps are in their evidence."""

from __future__ import annotations

import re
from typing import Any, Final, NamedTuple

from obitus.core.asking.records import CALLS, LONGEST_REQUEST, request_line, uuid_text
from obitus.core.calls import AlikeCalls, CallKind, answered_at, called_text, calls_of
from obitus.store.days.pairs import id_of, indexed, kept, pairs_of
from obitus.store.days.texts import Texts

_SPAN: Final = re.compile("[0-9a-f]{16}")

ADD: Final = """
INSERT INTO runs (place, time_ms, late_ms, app_id, release_id, environment_id, entry_point_id, outcome, status, duration_ms,
                  request, kept_id, trace_id, run_id, shared, attributes)
VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"""


class RunFacts(NamedTuple):
    """A run's row, in addition to its evidence."""

    # A tuple, since most come from another process: a dataclass takes five times as long to pass on.

    entry_point: str
    outcome: str
    """'' where it is not known."""
    status: int | None
    duration_ms: float | None
    request: str
    """Method and address, '' where it answers no request."""
    kept: str
    """Why it was sent whole."""
    trace_id: bytes | None
    run_id: bytes | None
    pairs: tuple[tuple[str, bool], ...]
    indexed: str
    """Its words and terms, with spaces between."""
    calls: tuple[AlikeCalls, ...] = ()
    answered_at: tuple[CallKind, str] | None = None
    """The name by which it was called."""
    spans: tuple[bytes, ...] = ()
    """Its own span and those of its calls, which called runs name as their parent."""
    parent: bytes | None = None
    """The span that called it."""


def facts_of(content: dict[str, Any]) -> RunFacts:
    """Return the row of a run, from its report after redaction."""
    run, request, attributes = content["run"], content.get("request") or {}, content.get("attributes", {})
    calls = calls_of(content.get("trail", ()))
    if calls:
        attributes = {CALLS: called_text(calls)} | attributes
    line = request_line(request)[:LONGEST_REQUEST]
    named = {"entry_point": run["entry_point"], "run": uuid_text(run.get("id")), "trace_id": content.get("trace_id")}
    return RunFacts(
        entry_point=run["entry_point"],
        outcome=run.get("outcome") or "",
        status=request.get("status"),
        duration_ms=run.get("duration_ms"),
        request=line,
        kept=run.get("kept", ""),
        trace_id=id_of(content.get("trace_id")),
        run_id=id_of(run.get("id")),
        pairs=pairs_of(attributes),
        indexed=indexed(f"{line} {run['entry_point']}", attributes, named),
        calls=calls,
        answered_at=answered_at(run, request, attributes),
        spans=_spans(content),
        parent=id_of(run.get("parent_span_id")),
    )


def _spans(content: dict[str, Any]) -> tuple[bytes, ...]:
    of_steps = ((step.get("attributes") or {}).get("span_id") for step in content.get("trail", ()))
    texts = dict.fromkeys(
        text for text in (content.get("span_id"), *of_steps) if isinstance(text, str) and _SPAN.fullmatch(text)
    )
    return tuple(map(bytes.fromhex, texts))


def columns(facts: RunFacts, texts: Texts, environment: str) -> tuple[Any, ...]:
    """Return the columns of a run from ``environment_id`` on."""
    shared, attributes = kept(facts.pairs, texts)
    return (
        texts.number(environment),
        texts.number(facts.entry_point),
        facts.outcome,
        facts.status,
        facts.duration_ms,
        facts.request,
        texts.number(facts.kept),
        facts.trace_id,
        facts.run_id,
        shared,
        attributes,
    )
