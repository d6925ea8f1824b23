"""``/api/acts``: the record of what people did and what was refused, filtered, and as a file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Final

from fastapi import Query
from fastapi.responses import StreamingResponse

from obitus.core.clock import to_text
from obitus.service.api import people_answers
from obitus.service.api.as_files import CSV, NDJSON, Form, as_file
from obitus.service.api.times import time_in_query
from obitus.service.dependencies import TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn
from obitus.service.sign_in.acts import TheActs
from obitus.store import people as store
from obitus.store.records import Records
from obitus.store.rows.people import Act

router = Router(prefix="/api", tags=["people"], responses=described("not-signed-in", "bad-field", "store-broken"))

AT_ONCE: Final = 500
LAST: Final = 2**62
COLUMNS: Final = ["time", "person", "act", "subject"]
"""The columns of the file."""
Kind = Annotated[str, Query(alias="act", max_length=100, description="Only acts of this kind.")]
By = Annotated[str, Query(max_length=60, description="Only what this person did.")]
Since = Annotated[str | None, Query(max_length=40, description="From this time on, RFC 3339 with an offset.")]
Until = Annotated[str | None, Query(max_length=40, description="Until this time.")]


@router.get("/acts", summary="The record of acts", responses=described("bad-window"))
def acts(
    records: TheRecords,
    person: SignedIn,
    act: Kind = "",
    by: By = "",
    since: Since = None,
    until: Until = None,
    before: Annotated[int, Query(ge=1, le=LAST, description="Read on from here.")] = LAST,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> people_answers.ActsAnswer:
    """Return what people did, and what was refused: sign-ins, keys, tokens, rules, merges, newest first."""
    rows = store.acts(records.reader, act=act, person=by, span_ms=_span(since, until), before=before, most=limit)
    return people_answers.ActsAnswer(
        acts=[_answer(row) for row in rows],
        kinds=store.act_kinds(records.reader),
        more=rows[-1].id if len(rows) == limit else None,
    )


@router.get(
    "/acts/file",
    summary="The record of acts, as a file",
    response_class=StreamingResponse,
    responses=described("bad-window")
    | {200: {"content": {NDJSON: {}, CSV: {}}, "description": "One act a line, newest first."}},
)
def acts_file(
    records: TheRecords,
    noted: TheActs,
    person: SignedIn,
    form: Form = "csv",
    act: Kind = "",
    by: By = "",
    since: Since = None,
    until: Until = None,
) -> StreamingResponse:
    """Stream the whole record, or the selected part."""
    span_ms = _span(since, until)
    noted.note(person, "exported", f"the record of acts as {form}")
    return as_file(_every(records, act, by, span_ms), COLUMNS, form, "acts")


def _every(records: Records, act: str, by: str, span_ms: tuple[int, int]) -> Iterator[dict[str, Any]]:
    before = LAST
    while rows := store.acts(records.reader, act=act, person=by, span_ms=span_ms, before=before, most=AT_ONCE):
        for row in rows:
            yield _answer(row).model_dump()
        before = rows[-1].id


def _span(since: str | None, until: str | None) -> tuple[int, int]:
    return time_in_query(since, "since") if since else 0, time_in_query(until, "until") if until else LAST


def _answer(row: Act) -> people_answers.ActAnswer:
    return people_answers.ActAnswer(
        id=row.id, time=to_text(row.time_ms), person=row.person, act=row.act, subject=row.subject
    )
