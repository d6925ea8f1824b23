"""``/api/timeline``: the timeline of a failure, a run, a trace, a person or a host, from all apps, in one order."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Query
from pydantic import BaseModel, Field, JsonValue

from obitus.core.asking import AnyOf, Compare, Node
from obitus.core.asking.records import Kind
from obitus.core.clock import DAY_MS, LAST_MS, MINUTE_MS, span_ms, to_ms, to_text
from obitus.core.headline import Headline
from obitus.core.timeline.entries import Entry, EntryKind
from obitus.core.timeline.folding import folds, last_worked
from obitus.core.timeline.merging import Timeline
from obitus.core.timeline.reports import Reported, timeline_of
from obitus.service.api.answers import Time
from obitus.service.api.below import Below, WellBefore, below_the_app
from obitus.service.api.times import time_in_query
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import issues, releases
from obitus.store.asking import find
from obitus.store.asking.finding import MOST_LOOKED_AT, names_in
from obitus.store.asking.records import records_of
from obitus.store.records import Records
from obitus.store.rows.issues import Failure
from obitus.store.timeline import decided_between, issues_begun, notes_between

router = Router(
    prefix="/api",
    tags=["timeline"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

MOST_REPORTS: Final = 1_000
"""Most reports of each kind on a timeline."""
MOST_DATA: Final = 60
LONGEST_STORY_MS: Final = 2 * DAY_MS
"""How much earlier or later than one record of a trace or run its others may be."""
LONGEST_AROUND_MS: Final = 6 * 60 * MINUTE_MS
KINDS: Final[tuple[Kind, ...]] = ("failure", "run", "log")
SeverityName = Literal["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"]


class TimelineEntry(BaseModel):
    """One entry."""

    key: str
    kind: EntryKind
    time: Time = Field(description="When it began, by the clock that all were brought to.")
    since_ms: float = Field(description="Milliseconds since the first entry.")
    duration_ms: float | None
    app: str
    host: str
    severity: SeverityName
    said: str
    depth: int = Field(description="How many causes it has above it.")
    parent: str = Field(description="The key of the step that contains or caused it; '' where neither is known.")
    run: str
    number: int | None = Field(description="The number of its record, where it is one.")
    reports: int = Field(description="How many reports have it.")
    issue: int | None = None
    failure: str | None = Field(default=None, description="The id of a failure.")
    data: dict[str, JsonValue]


class FoldAnswer(BaseModel):
    """Consecutive entries that are folded."""

    first: str = Field(description="The key of the first of them.")
    last: str
    entries: int
    reason: str


class CorrectionAnswer(BaseModel):
    """The correction of one host's clock."""

    host: str
    by_ms: float
    reason: str
    certain: bool


class WorkedAnswer(BaseModel):
    """The last step known to have worked."""

    key: str
    reason: str


class TimelineAnswer(BaseModel):
    """A timeline."""

    title: str
    start: Time
    end: Time
    apps: list[str] = Field(description="One lane each, in the order in which they come in.")
    entries: list[TimelineEntry]
    folds: list[FoldAnswer]
    corrections: list[CorrectionAnswer]
    notes: list[str] = Field(description="What is missing, in words.")
    ends_with: str | None = Field(description="The key of the failure that it leads to.")
    worked: WorkedAnswer | None
    well_before: WellBefore | None = Field(
        default=None,
        description="Of a request that an access log tells of: the last one before that was answered well.",
    )


@router.get(
    "/timeline", summary="The timeline of a failure, run, trace, user or host", responses=described("not-found")
)
def timeline(
    records: TheRecords,
    clock: TheClock,
    failure: Annotated[
        uuid.UUID | None, Query(description="The id of a failure: its trace, else its run, and it as their end.")
    ] = None,
    run: Annotated[uuid.UUID | None, Query(description="The id of a run.")] = None,
    trace: Annotated[str | None, Query(pattern="^[0-9a-f]{32}$", description="A trace id (W3C Trace Context).")] = None,
    user: Annotated[str | None, Query(max_length=300, description="What `user.id` says.")] = None,
    host: Annotated[str | None, Query(max_length=300, description="What `host.name` says.")] = None,
    at: Annotated[
        str | None, Query(description="Around when, RFC 3339 with an offset; for a user or host: now when absent.")
    ] = None,
    around: Annotated[
        str | None,
        Query(max_length=20, description="Also what else happened so long before and after: `1m`, `5m`, `30m`."),
    ] = None,
) -> TimelineAnswer:
    """Merge the reports of all apps about it: runs and their steps, log records, failures; with `around`, deploys,
    decisions, notes and new issues of that time."""
    given = [asked_for for asked_for in (failure, run, trace, user, host) if asked_for is not None]
    if len(given) != 1:
        raise Problem("bad-field", "Say one of failure, run, trace, user and host.", field="failure")
    around_ms = around_in_query(around)
    at_ms = time_in_query(at, "at") if at else None
    subject: Failure | None = None
    if failure is not None:
        subject = issues.failure_with_id(records.reader, failure.bytes)
        at_ms, title = subject.time_ms, f"What led up to a failure in {subject.app}"
        node, whole = _of_failure(subject, records), (subject.time_ms - DAY_MS, subject.time_ms + DAY_MS)
    elif run is not None:
        node, title, whole = Compare("run", "=", str(run)), "One run", (0, LAST_MS)
    elif trace is not None:
        node, title, whole = Compare("trace_id", "=", trace), "One trace", (0, LAST_MS)
    else:
        name, value = ("user.id", user) if user is not None else ("host.name", host)
        at_ms, around_ms = at_ms if at_ms is not None else clock.now_ms(), around_ms or 30 * MINUTE_MS
        node, title = Compare(name, "=", str(value)), f"{'User' if user is not None else 'Host'} {value}"
        whole = (at_ms - around_ms, at_ms + around_ms)
    reported, cut = _reported(records, node, whole)
    below = None
    if run is not None:
        below = next((found for entry in reported if (found := below_the_app(records, entry)) is not None), None)
        if below is not None and below.run is not None:
            reported += [
                entry for entry in _reported(records, _of_run(records, below.run), whole)[0] if entry not in reported
            ]
    if subject is not None and all(entry.number != subject.seq for entry in reported):
        reported += [
            Reported(content, subject.app, subject.seq)
            for content in records.evidence.contents([subject.seq])
            if content
        ]
    nearby: list[Entry] = []
    if around_ms and reported:
        middle = at_ms if at_ms is not None else reported[0].number and _time_of(reported[0])
        nearby = _nearby(records, int(middle), around_ms, {entry.app for entry in reported})
    return _answer(records, title, timeline_of(reported, nearby), subject, cut, below)


def _of_run(records: Records, run: str) -> Node:
    """Return the selection of an app's run: its trace, where it has one, and itself."""
    own = Compare("run", "=", run)
    page = find(records.reader, records.days, "run", own, 0, LAST_MS, most=1)
    rows = records_of(records.days, "run", page.names, page.rows)
    trace = rows[0].values.get("trace_id") if rows else None
    return AnyOf((own, Compare("trace_id", "=", str(trace)))) if trace else own


def around_in_query(text: str | None) -> int:
    """Return a span given in an address in milliseconds, 0 where none is given; raises the problem ``bad-field``."""
    if not text:
        return 0
    length = span_ms(text)
    if length is None or length > LONGEST_AROUND_MS:
        raise Problem(
            "bad-field", f"{text[:20]!r} is no length of time up to six hours. Say 1m, 5m or 30m.", field="around"
        )
    return length


def _of_failure(which: Failure, records: Records) -> Node:
    """Return the selection of a failure: its trace and its run, where it has them."""
    content = records.evidence.content(which.seq) or {}
    run = (content.get("run") or {}).get("id")
    parts: list[Node] = []
    if which.trace_id:
        parts.append(Compare("trace_id", "=", which.trace_id.hex()))
    if run:
        parts.append(Compare("run", "=", str(run).lower()))
    # There is no record of this run: the failure is alone, with its own steps.
    return AnyOf(tuple(parts)) if len(parts) > 1 else parts[0] if parts else Compare("run", "=", str(uuid.UUID(int=0)))


def _reported(records: Records, node: Node, whole: tuple[int, int]) -> tuple[list[Reported], str | None]:
    """Return the reports of a timeline, and what was left out, in words."""
    reported: list[Reported] = []
    cut: str | None = None
    names = names_in(records.reader)
    for kind in KINDS:
        page = find(records.reader, records.days, kind, node, *whole, most=min(MOST_REPORTS, MOST_LOOKED_AT))
        if page.rows and not reported:
            # The day of a trace is not known: the records of one kind narrow it for the others.
            times = [row.row.time_ms for row in page.rows]
            whole = max(whole[0], min(times) - LONGEST_STORY_MS), min(whole[1], max(times) + LONGEST_STORY_MS)
        cut = page.cut or cut or (f"Only the latest {MOST_REPORTS:,} {kind}s are shown." if page.more else None)
        rows = records_of(records.days, kind, names, page.rows)
        contents = records.evidence.contents((row.seq for row in rows), ids=False)
        for row, content in zip(rows, contents, strict=True):
            if content is not None:
                reported.append(Reported(content, str(row.values.get("app") or ""), row.seq))
    return reported, cut


def _time_of(reported: Reported) -> int:
    return to_ms(datetime.fromisoformat(reported.content["time"]))


def _nearby(records: Records, at_ms: int, around_ms: int, apps: set[str]) -> list[Entry]:
    """Return other events around a moment: deploys, new issues, decisions and notes."""
    from_ms, to_ms = at_ms - around_ms, at_ms + around_ms
    nearby = [
        Entry(
            f"deploy {row.app} {row.version} {row.environment} {row.time_ms}", "deploy", float(row.time_ms),
            f"{row.app} {row.version} was deployed in {row.environment}", app=row.app,
        )
        for row in releases.deploys(records.reader, from_ms, to_ms, None, None, limit=50)
    ]  # fmt: skip
    for begun in issues_begun(records.reader, from_ms, to_ms):
        title = Headline(begun.type, begun.cause, begun.place).title
        nearby.append(
            Entry(f"issue {begun.id}", "issue", float(begun.first_ms), f"Issue {begun.id} began: {title}", app=begun.app, severity="WARN", data={"issue": begun.id})
        )  # fmt: skip
    nearby.extend(
        Entry(f"decision {row.id}", "decision", float(row.time_ms), f"Issue {row.issue_id}: {row.reason}", app=row.app, data={"issue": row.issue_id})
        for row in decided_between(records.reader, from_ms, to_ms)
    )  # fmt: skip
    for written in notes_between(records.reader, from_ms, to_ms):
        what = f"{written.looked_at}: {written.found}" if written.looked_at else " ".join(written.text.split())
        nearby.append(
            Entry(f"note {written.id}", "note", float(written.time_ms), f"{written.person} on issue {written.issue_id}: {what}", app=written.app, data={"issue": written.issue_id})
        )  # fmt: skip
    # Of other apps only deploys may be the cause.
    return [entry for entry in nearby if entry.app in apps or entry.kind == "deploy"]


def _answer(
    records: Records, title: str, timeline: Timeline, which: Failure | None, cut: str | None, below: Below | None
) -> TimelineAnswer:
    entries, times = timeline.entries, timeline.times_ms
    if not entries:
        raise Problem("not-found", "Nothing is kept of it: nothing was reported, or its day was removed.")
    start = min(times.values())
    named = issues.failures_named(
        records.reader, [entry.number for entry in entries if entry.kind == "failure" and entry.number is not None]
    )
    ends_with = (
        f"report {which.seq}"
        if which is not None
        else next((entry.key for entry in reversed(entries) if entry.kind == "failure"), None)
    )
    worked = last_worked(timeline, ends_with) if ends_with else None
    lanes = list(dict.fromkeys(entry.app for entry in entries if entry.app))

    def shown(entry: Entry) -> TimelineEntry:
        failure = named.get(entry.number) if entry.number is not None else None
        data: dict[str, Any] = dict(list(entry.data.items())[:MOST_DATA])
        issue = failure.issue_id if failure is not None else data.pop("issue", None)
        return TimelineEntry(
            key=entry.key,
            kind=entry.kind,
            time=to_text(round(times[entry.key])),
            since_ms=round(times[entry.key] - start, 3),
            duration_ms=entry.duration_ms,
            app=entry.app,
            host=entry.host,
            severity=entry.severity if entry.severity in ("TRACE", "DEBUG", "INFO", "WARN", "FATAL") else "ERROR",
            said=entry.said,
            depth=min(one_depth, 30) if (one_depth := timeline.depths[entry.key]) else 0,
            parent=entry.parent,
            run=entry.run,
            number=entry.number,
            reports=max(1, len(entry.tellers)),
            issue=issue if isinstance(issue, int) else None,
            failure=str(uuid.UUID(bytes=failure.id)) if failure is not None else None,
            data=data,
        )

    return TimelineAnswer(
        title=title,
        start=to_text(round(start)),
        end=to_text(round(max(times[entry.key] + max(0.0, entry.duration_ms or 0.0) for entry in entries))),
        apps=lanes,
        entries=[shown(entry) for entry in entries],
        folds=[FoldAnswer(first=entries[fold.first].key, last=entries[fold.last].key, entries=fold.last - fold.first + 1, reason=fold.reason) for fold in folds(timeline)],
        corrections=[CorrectionAnswer(host=correction.host, by_ms=correction.by_ms, reason=correction.reason, certain=correction.certain) for correction in timeline.corrections],
        notes=[*(below.notes if below else []), *timeline.notes, *([cut] if cut else [])],
        ends_with=ends_with,
        worked=WorkedAnswer(key=worked.key, reason=worked.reason) if worked else None,
        well_before=below.well if below else None,
    )  # fmt: skip
