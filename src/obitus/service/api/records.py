"""``/api/records``: failures, logs and runs of a question, their values, and summaries."""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Iterator
from typing import Annotated, Any, Final

from fastapi import Depends, Path, Query, Request
from fastapi.responses import StreamingResponse

from obitus.core.asking import All, Compare, Node, QuestionTrouble, fields_of
from obitus.core.asking.hints import hints_for, with_colon
from obitus.core.asking.occurring import occurring
from obitus.core.asking.records import FIELDS, Kind
from obitus.core.asking.summaries import MOST_CHARACTERS, Summary, read_summary, written
from obitus.core.asking.values import TIMES
from obitus.core.clock import DAY_MS, LAST_MS, to_text
from obitus.core.days import day_and_place
from obitus.core.headline import Headline
from obitus.core.terms import value_text
from obitus.service.api import record_answers as answers
from obitus.service.api import views
from obitus.service.api.as_files import CSV, NDJSON, Form, as_file
from obitus.service.api.asked import Cursor, Question, TheWindow, bad_question, closed, opened, understood
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import issues
from obitus.store.asking import FoundRecords, Looked, find
from obitus.store.asking.counting import Cell, SummaryProgress, count
from obitus.store.asking.finding import MOST_LOOKED_AT, MOST_ROWS, names_in, one_row
from obitus.store.asking.records import Record, Row, records_of
from obitus.store.asking.sorting import find_sorted
from obitus.store.errors import UNREADABLE, NotThere
from obitus.store.records import Records
from obitus.store.rows.issues import FailureName
from obitus.store.windows import Window

router = Router(
    prefix="/api/records",
    tags=["records"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

KINDS: Final[dict[answers.KindName, Kind]] = {"failures": "failure", "logs": "log", "runs": "run"}
NAMES: Final[dict[Kind, answers.KindName]] = {kind: name for name, kind in KINDS.items()}
MOST_GROUPS: Final = 100
MOST_EXPORTED: Final = 1_000_000
PROGRESS_S: Final = 0.2
"""Pause between two answers of one summary that is still being counted."""
NEWEST_FIRST: Final = "-time"

WhichKind = Annotated[answers.KindName, Path(description="`failures`, `logs` or `runs`.")]
SummaryText = Annotated[
    str,
    Query(
        max_length=MOST_CHARACTERS,
        description="The summary, such as `count by entry_point over time`: see docs/questions.md.",
    ),
]


def asked_for(window: Window, question: Node | None) -> Node | None:
    """Return the combination of the bar above the page and a question."""
    narrowed = {"app": window.app, "environment": window.environment, "release": window.release}
    parts: list[Node] = [Compare(name, "=", value) for name, value in narrowed.items() if value is not None]
    if question is not None:
        parts.append(question)
    return None if not parts else parts[0] if len(parts) == 1 else All(tuple(parts))


@router.get(
    "/{kind}", summary="Records that match a question", responses=described("bad-window", "bad-cursor", "bad-question")
)
def found(
    records: TheRecords,
    clock: TheClock,
    kind: WhichKind,
    window: TheWindow,
    question: Question = None,
    cursor: Cursor = None,
    limit: Annotated[int, Query(ge=1, le=MOST_ROWS, description="Most rows of one page.")] = 50,
    sort: Annotated[
        str,
        Query(
            max_length=300,
            description="The field that they are put in order by, smallest first; with `-` before it, greatest first.",
        ),
    ] = NEWEST_FIRST,
) -> answers.RecordsAnswer:
    """Return failures, logs or runs, newest first, a page at a time. Without a question: all of the window."""
    node = asked_for(window, understood(question, clock))
    if sort != NEWEST_FIRST:
        return _sorted(records, kind, node, window, sort, cursor, limit)
    after = opened(cursor, kind)
    page = _find(records, kind, node, window, limit, Looked(*after) if after else None)
    records_shown = _records(records, kind, page)
    following = closed(records_shown[-1].time_ms, records_shown[-1].seq, kind) if page.more and records_shown else None
    return answers.RecordsAnswer(
        window=views.window_answer(window),
        records=rows_of(records, kind, records_shown),
        next=following,
        cut=page.cut or None,
        hint=_hint(records, kind, question or "", node, window)
        if node and not records_shown and after is None
        else None,
    )


def _sorted(
    records: Records,
    kind: answers.KindName,
    node: Node | None,
    window: Window,
    sort: str,
    cursor: str | None,
    limit: int,
) -> answers.RecordsAnswer:
    """Return a page in the order of a field. Its cursor has the end of the window, so that all pages are of the same records."""
    after = opened(cursor, f"{kind} {sort}")
    to_ms, behind = after or (window.to_ms, 0)
    page = find_sorted(
        records.reader,
        records.days,
        KINDS[kind],
        node,
        (window.from_ms, to_ms),
        by=sort.removeprefix("-"),
        greatest_first=sort.startswith("-"),
        most=limit,
        behind=max(0, behind),
    )
    shown = _records(records, kind, page)
    following = closed(to_ms, behind + limit, f"{kind} {sort}") if page.more else None
    return answers.RecordsAnswer(
        window=views.window_answer(window), records=rows_of(records, kind, shown), next=following, cut=page.cut or None
    )


def _hint(records: Records, kind: answers.KindName, question: str, node: Node, window: Window) -> str | None:
    """Return remarks about a question without matches."""
    fields = FIELDS[KINDS[kind]]
    unknown, colons = fields_of(node) - fields, with_colon(question)
    if not unknown and not colons:
        return None
    looked_at, is_all = _newest(records, kind, asked_for(window, None), window)
    names = {name for record in looked_at for name in record.values} | fields
    return hints_for(colons, unknown, names, "record" if is_all else f"one of the newest {len(looked_at):,} records")


@router.get("/{kind}/occurring", summary="Which values occur most", responses=described("bad-window", "bad-question"))
def occurring_values(
    records: TheRecords, clock: TheClock, kind: WhichKind, window: TheWindow, question: Question = None
) -> answers.OccurringAnswer:
    """Return the most frequent values of each field in the newest records of a question."""
    node = asked_for(window, understood(question, clock))
    looked_at, is_all = _newest(records, kind, node, window)
    return answers.OccurringAnswer(
        looked_at=len(looked_at),
        all=is_all,
        fields=[
            answers.FieldAnswer(
                name=entry.name,
                records=entry.having,
                different=len(entry.values),
                values=[answers.ValueAnswer(value=value, records=n) for value, n in entry.most()],
            )
            for entry in occurring(KINDS[kind], (record.values for record in looked_at))
        ],
    )


@router.get(
    "/{kind}/summary",
    summary="A summary of the records of a question",
    responses=described("bad-window", "bad-question") | {200: {"content": {NDJSON: {}}}},
)
def summary(
    request: Request,
    records: TheRecords,
    clock: TheClock,
    kind: WhichKind,
    window: TheWindow,
    summary: SummaryText,
    question: Question = None,
    most: Annotated[int, Query(ge=1, le=1000, description="Most groups to return, the greatest.")] = MOST_GROUPS,
) -> answers.SummaryAnswer:
    """Count, newest records first. For `application/x-ndjson` it answers with a line now and then, each with further progress."""
    node = asked_for(window, understood(question, clock))
    try:
        asked = read_summary(summary)
    except QuestionTrouble as trouble:
        raise bad_question(trouble, "summary") from None
    counting = count(records.reader, records.days, KINDS[kind], node, asked, window.from_ms, window.to_ms)
    if NDJSON in request.headers.get("accept", ""):
        return StreamingResponse(_progress(counting, window, most), media_type=NDJSON)  # type: ignore[return-value]
    *_, whole = counting
    return _summary(whole, window, most)


@router.get(
    "/{kind}/export",
    summary="Records as a file",
    response_class=StreamingResponse,
    responses=described("bad-window", "bad-question") | {200: {"content": {NDJSON: {}, CSV: {}}}},
)
def export(
    records: TheRecords,
    clock: TheClock,
    kind: WhichKind,
    window: TheWindow,
    question: Question = None,
    form: Form = "csv",
    column: Annotated[list[str] | None, Query(max_length=100, description="Only these fields, in this order.")] = None,
) -> StreamingResponse:
    """Stream the records of a question, newest first, up to a million. In CSV values that begin like a formula get an apostrophe."""
    node = asked_for(window, understood(question, clock))
    columns = column or (["time", *(name for name in _COLUMNS[kind] if name != "time")] if form == "csv" else None)
    rows = _exported(records, kind, node, window)
    return as_file(rows, columns, form, f"{kind}-{to_text(window.to_ms)[:10]}")


@router.get("/{kind}/names", summary="Names and values that exist", responses=described("bad-window"))
def names(
    records: TheRecords,
    kind: WhichKind,
    window: TheWindow,
    field: Annotated[
        str | None, Query(max_length=300, description="Values of this field; without it, names of fields.")
    ] = None,
    begins: Annotated[str, Query(max_length=300, description="Only those that begin so, whatever their case.")] = "",
) -> answers.NamesAnswer:
    """Return names of fields, or values of one, for completion: those of the newest records of the window."""
    looked_at, _ = _newest(records, kind, asked_for(window, None), window)
    counted: dict[str, int] = {}
    for record in looked_at:
        values = (
            record.values if field is None else [value_text(record.values[field])] if field in record.values else []
        )
        for value in values:
            if value.casefold().startswith(begins.casefold()) and len(value) <= 200:
                counted[value] = counted.get(value, 0) + 1
    if field is None:
        for name in _COLUMNS[kind]:
            if name.startswith(begins):
                counted.setdefault(name, 0)
    ordered = sorted(counted.items(), key=lambda one: (-one[1], one[0]))[:50]
    return answers.NamesAnswer(values=[answers.ValueAnswer(value=value, records=n) for value, n in ordered])


together_router = Router(prefix="/api", tags=["records"], dependencies=[Depends(signed_in)], responses=router.responses)


@together_router.get("/record/{number}", summary="One record, whole", responses=described("not-found"))
def record(
    records: TheRecords,
    number: Annotated[int, Path(ge=0, lt=2**48, description="The number of a record, from a list.")],
) -> answers.RecordAnswer:
    """Return one record in full, and the failures that belong to it."""
    day, place = day_and_place(number)
    try:
        with records.days.open(day) as connection:
            found_row = one_row(connection, place)
    except UNREADABLE as error:
        raise NotThere(str(error)) from None
    if found_row is None:
        raise NotThere(str(records.days.removal_of(day, place) or f"there is no record {number}"))
    kind, row = found_row
    (whole,) = records_of(records.days, kind, names_in(records.reader), [Row(day, row)])
    report, gone = None, None
    try:
        report = json.loads(records.evidence.read(number))
    except UNREADABLE as error:
        gone = str(error)
    (listed,) = rows_of(records, NAMES[kind], [whole])
    return answers.RecordAnswer(record=listed, report=report, gone=gone, failures=_failures_beside(records, whole))


@together_router.get("/together", summary="Everything of one run or trace", responses=described("bad-field"))
def together(
    records: TheRecords,
    run: Annotated[uuid.UUID | None, Query(description="The id of a run.")] = None,
    trace: Annotated[str | None, Query(pattern="^[0-9a-f]{32}$", description="A trace id (W3C Trace Context).")] = None,
) -> answers.TogetherAnswer:
    """Return the failures, logs and runs of one run, or of one trace across apps, oldest first."""
    if (run is None) == (trace is None):
        raise Problem("bad-field", "Say a run or a trace, one of them.", field="run")
    node = Compare("run", "=", str(run)) if run is not None else Compare("trace_id", "=", str(trace))
    whole = Window(0, LAST_MS)
    rows: list[answers.RecordRow] = []
    cut: str | None = None
    for kind in KINDS:
        page = _find(records, kind, node, whole, MOST_LOOKED_AT, None)
        cut = page.cut or cut or (f"Only the latest {MOST_LOOKED_AT:,} are shown." if page.more else None)
        rows += rows_of(records, kind, _records(records, kind, page))
    rows.sort(key=lambda row: (row.time, row.number))
    numbers = [row.number for row in rows if row.kind == "failures"]
    named = issues.failures_named(records.reader, numbers)
    return answers.TogetherAnswer(records=rows, failures=[_ref(named[one]) for one in numbers if one in named], cut=cut)


def rows_of(records: Records, kind: answers.KindName, records_found: list[Record]) -> list[answers.RecordRow]:
    """Return records as the API lists them."""
    named = (
        issues.failures_named(records.reader, [record.seq for record in records_found]) if kind == "failures" else {}
    )
    rows = []
    for record in records_found:
        failure = named.get(record.seq)
        rows.append(
            answers.RecordRow(
                number=record.seq,
                kind=kind,
                time=to_text(record.time_ms),
                values=_shown(record.values),
                failure=str(uuid.UUID(bytes=failure.id)) if failure else None,
                issue=failure.issue_id if failure else None,
            )
        )
    return rows


_COLUMNS: Final[dict[answers.KindName, tuple[str, ...]]] = {
    "failures": ("time", "app", "environment", "release", "severity", "type", "message", "entry_point", "handled", "run", "trace_id"),
    "logs": ("time", "app", "environment", "release", "severity", "logger", "message", "template", "entry_point", "run", "trace_id", "span_id"),
    "runs": ("time", "app", "environment", "release", "entry_point", "outcome", "status", "duration", "request", "kept", "run", "trace_id"),
}  # fmt: skip


def _shown(values: dict[str, Any]) -> dict[str, Any]:
    return {name: to_text(value) if name in TIMES and type(value) is int else value for name, value in values.items()}


def _find(
    records: Records, kind: answers.KindName, node: Node | None, window: Window, most: int, after: Looked | None
) -> FoundRecords:
    return find(records.reader, records.days, KINDS[kind], node, window.from_ms, window.to_ms, most=most, after=after)


def _records(records: Records, kind: answers.KindName, page: FoundRecords) -> list[Record]:
    return records_of(records.days, KINDS[kind], page.names, page.rows)


def _newest(records: Records, kind: answers.KindName, node: Node | None, window: Window) -> tuple[list[Record], bool]:
    """Return the newest records of a question, and whether these are all."""
    page = _find(records, kind, node, window, MOST_LOOKED_AT, None)
    return _records(records, kind, page), not page.more


def _failures_beside(records: Records, record: Record) -> list[answers.FailureRef]:
    """Return the failures of a record's run, or of its trace where it has no run, without itself."""
    name = next((name for name in ("run", "trace_id") if name in record.values), None)
    if name is None:
        return []
    node = Compare(name, "=", record.values[name])
    around = Window(max(0, record.time_ms - DAY_MS), record.time_ms + DAY_MS)
    page = _find(records, "failures", node, around, 20, None)
    seqs = [one.seq for one in page.rows if one.seq != record.seq]
    named = issues.failures_named(records.reader, seqs)
    return [_ref(named[seq]) for seq in seqs if seq in named]


def _ref(row: FailureName) -> answers.FailureRef:
    return answers.FailureRef(
        id=str(uuid.UUID(bytes=row.id)),
        issue=row.issue_id,
        title=Headline(row.type, row.cause, row.place).title,
        time=to_text(row.time_ms),
        app=row.app,
    )


def _progress(counting: Iterator[SummaryProgress], window: Window, most: int) -> Iterator[str]:
    """Yield an answer as soon as there is one, then now and then, and the complete one at the end."""
    said_s = 0.0
    for counted in counting:
        if counted.going.done or time.monotonic() - said_s >= PROGRESS_S:
            said_s = time.monotonic()
            yield _summary(counted, window, most).model_dump_json() + "\n"


def _summary(counted: SummaryProgress, window: Window, most: int) -> answers.SummaryAnswer:
    summary: Summary = counted.summary
    width = counted.width_ms
    slices = range(window.from_ms // width, (window.to_ms - 1) // width + 1) if summary.over_time else range(0)

    def values_of(cells: dict[int, Cell]) -> list[float | None]:
        nothing = 0.0 if summary.stat is None else None
        # Slices that are not counted yet are left out.
        return [
            cells[at].value(summary.stat)
            if at in cells
            else nothing
            if (at + 1) * width > counted.going.back_to_ms
            else None
            for at in slices
        ]

    groups = counted.largest(most)
    shown = {keys for keys, _ in groups}
    by_keys: dict[Any, dict[int, Cell]] = {keys: {} for keys in shown}
    for (keys, at), cell in counted.groups_over_time.items():
        if keys in shown:
            by_keys[keys][at] = cell
    return answers.SummaryAnswer(
        window=views.window_answer(window),
        summary=written(summary),
        by=list(summary.by),
        records=counted.in_all.n,
        value=counted.in_all.value(summary.stat),
        slices=[to_text(at * width) for at in slices] if summary.over_time else None,
        slice_ms=width if summary.over_time else None,
        over_time=values_of(counted.over_time) if summary.over_time else None,
        groups=[
            answers.GroupAnswer(
                keys=[_key(name, key) for name, key in zip(summary.by, keys, strict=True)],
                records=cell.n,
                value=cell.value(summary.stat),
                over_time=values_of(by_keys[keys]) if summary.over_time else None,
            )
            for keys, cell in groups
        ],
        groups_in_all=len(counted.groups),
        not_listed=counted.beyond,
        back_to=to_text(counted.going.back_to_ms),
        done=counted.going.done,
        cut=counted.going.cut or None,
    )


def _key(name: str, key: Any) -> Any:
    return to_text(key) if name in TIMES and type(key) is int else key


def _exported(records: Records, kind: answers.KindName, node: Node | None, window: Window) -> Iterator[dict[str, Any]]:
    """Yield the values of all records of a question, with one page in memory at a time."""
    after: Looked | None = None
    for _ in range(MOST_EXPORTED // MOST_ROWS):
        page = _find(records, kind, node, window, MOST_ROWS, after)
        exported = _records(records, kind, page)
        for record in exported:
            yield _shown(record.values)
        if not page.more or not exported:
            return
        after = Looked(exported[-1].time_ms, exported[-1].seq)
