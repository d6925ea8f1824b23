"""``/api/person``: what happened to one person around a time, in all apps, in order. The starting point when there is no exception."""

from __future__ import annotations

import uuid
from hashlib import sha256
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Query
from pydantic import BaseModel, Field

from obitus.core.asking import All, AnyOf, Compare, Exists, Node, Not
from obitus.core.asking.records import Kind
from obitus.core.clock import MINUTE_MS, to_text
from obitus.core.own_attributes import QUIET_KIND
from obitus.core.redaction import hidden_session
from obitus.core.severity import SEVERITIES
from obitus.service.api.answers import SpanAnswer, Time
from obitus.service.api.timeline import around_in_query
from obitus.service.api.times import time_in_query
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import issues
from obitus.store.asking import find
from obitus.store.asking.finding import names_in
from obitus.store.asking.records import Record, records_of
from obitus.store.records import Records

router = Router(
    prefix="/api",
    tags=["timeline"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

MOST_SHOWN: Final = 500
"""Records of each kind, those nearest to the end of the span."""
AROUND_MS: Final = 30 * MINUTE_MS
FIELDS: Final = ("user.id", "session.id", "user.hash", "user.name", "user.email")
"""Attributes in which a person is searched; ``user.hash`` also for the SHA-256 of an e-mail address in lower case."""
ONLY_COUNTED: Final = "Where an issue failed very often at once, their failures were counted and not kept whole: shown is one of somebody else that is like them."
_WARN: Final = float(SEVERITIES.index("WARN"))


class MetAnswer(BaseModel):
    """One record of a person."""

    kind: Literal["run", "failure", "log"]
    number: int
    time: Time
    app: str
    said: str = Field(description="The entry point of a run, what failed, or what was logged.")
    entry_point: str
    outcome: Literal["ok", "refused", "failed", "warned"]
    status: int | None
    duration_ms: float | None
    run: str | None
    trace: str | None
    failure: str | None = Field(description="Of a failure: its id.")
    issue: int | None
    counted: int = Field(
        default=0,
        description="For a failure that represents others: how many of them were only counted, within ten seconds of it.",
    )


class PersonAnswer(BaseModel):
    """The records of a person."""

    who: str
    found_by: list[str] = Field(description="The attributes that name them.")
    span: SpanAnswer
    apps: list[str]
    met: list[MetAnswer] = Field(description="In order of time.")
    refused: int
    failed: int = Field(description="Runs that failed, and failures that were only counted.")
    notes: list[str]


@router.get("/person", summary="What happened to one person", responses=described("bad-window"))
def person(
    records: TheRecords,
    clock: TheClock,
    who: Annotated[
        str,
        Query(
            min_length=1, max_length=300, description="A user id, a session, a name, an e-mail address, or its hash."
        ),
    ],
    at: Annotated[str | None, Query(description="Around when, RFC 3339 with an offset; now when absent.")] = None,
    around: Annotated[
        str | None, Query(max_length=20, description="So long before and after: `30m`, also when absent.")
    ] = None,
) -> PersonAnswer:
    """Return the runs of one person around a time, in all apps and in order, with what failed or warned outside of runs."""
    if not who.strip():
        raise Problem("bad-field", "Say who: a user id, a session or an e-mail address.", field="who")
    at_ms = time_in_query(at, "at") if at else clock.now_ms()
    around_ms = around_in_query(around) or AROUND_MS
    span = (at_ms - around_ms, at_ms + around_ms)
    who, values = who.strip(), spelled(who.strip())
    records_met, notes = _met(records, asked_of(values), span)
    counted = _only_counted(records, values, span)
    if counted:
        notes.append(ONLY_COUNTED)
    met = sorted([*(record_met for _, record_met in records_met), *counted], key=lambda one: (one.time, one.number))
    named = {name for record, _ in records_met for name in FIELDS if str(record.values.get(name, "")) in values}
    named |= {FIELDS[0]} if counted else set()
    if not met:
        notes.append(
            "Nothing is kept of them then. Try a wider span, or another name: apps say who asks with user.id, session.id or user.hash."
        )
    elif all(record_met.outcome == "ok" for record_met in met):
        notes.append("Nothing of it was refused or failed. Of runs that went well only some are sent whole.")
    return PersonAnswer(
        who=who,
        found_by=sorted(named),
        span=SpanAnswer(start=to_text(span[0]), end=to_text(span[1])),
        apps=list(dict.fromkeys(record_met.app for record_met in met)),
        met=met,
        refused=sum(record_met.outcome == "refused" for record_met in met),
        failed=sum(record_met.outcome == "failed" and record_met.kind == "run" for record_met in met)
        + sum(record_met.counted for record_met in met),
        notes=notes,
    )


def spelled(who: str) -> set[str]:
    """Return the values under which a person may be stored: as written, the hash of an address, the replacement of a
    hidden session."""
    spellings = {who, hidden_session(who)}
    return spellings | {sha256(who.lower().encode("utf-8", "surrogatepass")).hexdigest()} if "@" in who else spellings


def asked_of(values: set[str]) -> Node:
    """Return the question that finds the records of a person who may be stored under any of these values."""
    return AnyOf(tuple(Compare(name, "=", value) for name in FIELDS for value in sorted(values)))


def _met(records: Records, node: Node, span: tuple[int, int]) -> tuple[list[tuple[Record, MetAnswer]], list[str]]:
    """Return the entries, each with its record, and what is missing, in words."""
    names = names_in(records.reader)
    notes: list[str] = []
    met: list[tuple[Record, MetAnswer]] = []
    asked: tuple[tuple[Kind, Node], ...] = (
        ("run", node),
        ("failure", All((node, Not(Exists(QUIET_KIND))))),
        ("log", All((node, Compare("severity", ">=", "WARN", _WARN)))),
    )
    for kind, narrowed in asked:
        page = find(records.reader, records.days, kind, narrowed, *span, most=MOST_SHOWN)
        if page.cut or page.more:
            notes.append(page.cut or f"Only the latest {MOST_SHOWN:,} {kind}s are shown: choose less time.")
        rows = records_of(records.days, kind, names, page.rows)
        failures = issues.failures_named(records.reader, [row.seq for row in rows]) if kind == "failure" else {}
        for row in rows:
            failure = failures.get(row.seq)
            met.append((row, _shown(kind, row, failure)))
    return met, notes


def _only_counted(records: Records, users: set[str], span: tuple[int, int]) -> list[MetAnswer]:
    """Return the failures that represent some of theirs: of those only the number is known."""
    return [
        MetAnswer(
            kind="failure",
            number=row.seq,
            time=to_text(row.time_ms),
            app=row.app,
            said=row.type,
            entry_point=row.entry_point,
            outcome="failed",
            status=None,
            duration_ms=None,
            run=None,
            trace=None,
            failure=None,
            issue=row.issue_id,
            counted=row.failures,
        )
        for row in issues.only_counted(records.reader, users, span, MOST_SHOWN)
    ]


def _shown(kind: Kind, row: Record, failure: Any) -> MetAnswer:
    values = row.values
    outcome = {"run": str(values.get("outcome") or "ok"), "failure": "failed", "log": "warned"}[kind]
    answer = {
        "run": values.get("entry_point"),
        "failure": f"{values.get('type')}: {values.get('message') or ''}".removesuffix(": "),
        "log": values.get("message"),
    }[kind]
    status, duration = values.get("status"), values.get("duration")
    return MetAnswer(
        kind=kind,
        number=row.seq,
        time=to_text(row.time_ms),
        app=str(values.get("app") or ""),
        said=str(answer or "")[:300],
        entry_point=str(values.get("entry_point") or ""),
        outcome=outcome,
        status=status if isinstance(status, int) else None,
        duration_ms=float(duration) if isinstance(duration, int | float) else None,
        run=values.get("run"),
        trace=values.get("trace_id"),
        failure=None if failure is None else str(uuid.UUID(bytes=failure.id)),
        issue=None if failure is None else failure.issue_id,
    )
