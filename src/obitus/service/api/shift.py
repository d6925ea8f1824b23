"""``/api/shift``: what a shift hands on: new issues, decisions and who made them, what waits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Final, Literal

from fastapi import Depends
from fastapi.responses import Response
from pydantic import BaseModel, Field

from obitus.core.clock import to_text
from obitus.core.documents import Block, Heading, Listing, Paragraph, Table, as_markdown
from obitus.core.headline import Headline
from obitus.core.prose import beginning
from obitus.core.wording import count_of, minute_of, span
from obitus.service.api import answers, issue_answers, views
from obitus.service.api.asked import TheWindow
from obitus.service.api.document import MARKDOWN
from obitus.service.api.quiet import quiet_in
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import issues as issue_store
from obitus.store import shifts, timeline
from obitus.store.records import Records
from obitus.store.rows.triage import ChangeThen
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "bad-window", "store-broken"),
)

MOST_LISTED: Final = 50
_COMES: Final = ("new", "regressed", "reopened")


class ShiftChange(BaseModel):
    """A change of an issue, or a note on it."""

    time: answers.Time
    person: str | None = Field(description="Who did it; null where it came by itself.")
    issue: int
    app: str
    title: str
    what: Literal["new", "regressed", "reopened", "decided", "noted", "changed"]
    said: str


class ShiftAnswer(BaseModel):
    """What one shift hands on to the next."""

    window: answers.WindowAnswer
    sentence: str = Field(description="All of it in one sentence.")
    unassigned: list[issue_answers.IssueRow] = Field(
        description="New, reopened, or regressed and failing unassigned issues. By priority."
    )
    came_in: list[ShiftChange]
    decided: list[ShiftChange] = Field(description="What people decided and wrote.")
    by_person: dict[str, int] = Field(description="How much of that each of them did.")
    waits: list[issue_answers.IssueRow] = Field(
        description="Open issues that somebody has, that wait for something, or that something reopens."
    )
    quiet: list[issue_answers.QuietAnswer] = Field(description="Quiet failures now that nobody has decided on.")


@router.get("/shift", summary="What a shift hands on")
def shift(records: TheRecords, clock: TheClock, window: TheWindow) -> ShiftAnswer:
    """Return new issues of the window, decisions and who made them, and what waits."""
    return shift_answer(records, clock, window)


@router.get(
    "/shift/document",
    summary="What a shift hands on, as Markdown",
    response_class=Response,
    responses={200: {"content": {"text/markdown": {}}, "description": "To paste wherever the next shift reads."}},
)
def shift_document(records: TheRecords, clock: TheClock, window: TheWindow) -> Response:
    """Return the same as text to paste."""
    found = shift_answer(records, clock, window)
    return Response(as_markdown(list(_blocks(found))), media_type=MARKDOWN)


def shift_answer(records: Records, clock: Clock, window: Window) -> ShiftAnswer:
    """Return what one shift hands on to the next."""
    now_ms = clock.now_ms()
    changes = [_change(row) for row in shifts.changes(records.reader, window)]
    between = timeline.notes_between(records.reader, window.from_ms, window.to_ms)
    notes = [row for row in between if window.app in (None, row.app)]
    issues = issue_store.numbered(records.reader, [row.issue_id for row in notes])
    noted_on = {issue.id: issue for issue in issues}
    written = [
        ShiftChange(
            time=to_text(row.time_ms),
            person=row.person,
            issue=row.issue_id,
            app=row.app,
            title=views.title_of(noted_on[row.issue_id]),
            what="noted",
            said=f"{row.looked_at}: {row.found}. {beginning(row.text, 160)}".strip()
            if row.looked_at
            else beginning(row.text, 200),
        )
        for row in notes
        if row.issue_id in noted_on
    ]
    came_in = sorted((change for change in changes if change.what in _COMES), key=lambda one: one.time)
    decided = sorted([*written, *(change for change in changes if change.what == "decided")], key=lambda one: one.time)
    numbers = list(dict.fromkeys(change.issue for change in reversed(came_in)))[:MOST_LISTED]
    # Issues that regressed before the shift, and still fail, wait for somebody too.
    failing = issue_store.issues(records.reader, window, states=["regressed"], limit=MOST_LISTED, unassigned=True)
    rows = {row.id: row for row in (*failing, *issue_store.numbered(records.reader, numbers))}
    unassigned = [
        row
        for row in rows.values()
        if row.holder is None and row.state in ("untriaged", "regressed") and row.merged_into is None
    ]
    by_person = Counter(change.person or "" for change in decided)
    waiting = shifts.waiting(records.reader, window, MOST_LISTED)
    sums = issue_store.sums(records.reader, window)
    quiet = quiet_in(records, window)
    return ShiftAnswer(
        window=views.window_answer(window),
        sentence=_sentence(window, sums.failures, sums.issues, came_in, by_person, len(unassigned)),
        unassigned=views.issue_rows(records, unassigned, window, now_ms, by_priority=True),
        came_in=came_in,
        decided=decided,
        by_person=dict(sorted(by_person.items(), key=lambda one: (-one[1], one[0]))),
        waits=views.issue_rows(records, waiting, window, now_ms, by_priority=True),
        quiet=quiet,
    )


def _change(row: ChangeThen) -> ShiftChange:
    what: Literal["new", "regressed", "reopened", "decided", "changed"] = (
        "decided"
        if row.person is not None
        else "new"
        if row.from_state is None
        else "regressed"
        if row.to_state == "regressed"
        else "reopened"
        if row.from_state == "parked"
        else "changed"
    )
    return ShiftChange(
        time=to_text(row.time_ms),
        person=row.person,
        issue=row.issue_id,
        app=row.app,
        title=Headline(row.type, row.cause, row.place).title,
        what=what,
        said=row.reason,
    )


def _sentence(
    window: Window, failures: int, issues: int, came_in: list[ShiftChange], by_person: dict[str, int], unassigned: int
) -> str:
    counts = {what: sum(one.what == what for one in came_in) for what in _COMES}
    came = [f"{count} {what}" for what, count in counts.items() if count] or ["nothing new"]
    people = [name for name in by_person if name]
    did = sum(by_person.values())
    by = f" by {', '.join(people[:5])}{' and others' if len(people) > 5 else ''}" if people else ""
    left = count_of(unassigned, "unassigned issue") if unassigned else "everything that came in is assigned"
    return (
        f"In {span(window.to_ms - window.from_ms)}: {count_of(failures, 'failure')} of {count_of(issues, 'issue')}; "
        f"{', '.join(came)}; {count_of(did, 'decision or note', 'decisions and notes')}{by}; {left}."
    )


def _blocks(shift: ShiftAnswer) -> Iterator[Block]:
    yield Heading(1, "What this shift hands on")
    yield Paragraph(f"{minute_of(shift.window.start)} to {minute_of(shift.window.end)} UTC. {shift.sentence}")
    yield Heading(2, "Unassigned")
    yield from _issue_table(shift.unassigned, "Everything that came in is assigned.")
    yield Heading(2, "What waits")
    yield from _issue_table(shift.waits, "Nothing waits.")
    if shift.quiet:
        yield Heading(2, "Quiet failures")
        yield Listing([f"{row.app}, {row.environment}: {row.subject}. {row.reason}" for row in shift.quiet])
    yield Heading(2, "What came in")
    yield Listing([_line(row) for row in shift.came_in] or ["Nothing."])
    yield Heading(2, "What was decided, and by whom")
    yield Listing([_line(row) for row in shift.decided] or ["Nothing."])


def _issue_table(rows: list[issue_answers.IssueRow], none: str) -> Iterator[Block]:
    if not rows:
        yield Paragraph(none)
        return
    yield Table(
        ("Issue", "What", "App", "State", "Priority", "With", "Waits for"),
        [
            (str(row.number), row.title, row.app, row.state, row.priority.level, row.holder or "nobody", waits_for(row))
            for row in rows
        ],
    )


def waits_for(row: issue_answers.IssueRow) -> str:
    """Write what an issue waits for: the text by a person, or the conditions of its parking."""
    until = row.parked.said if row.parked is not None else ""
    return "; ".join(reason for reason in (row.waits_for, until) if reason)


def _line(change: ShiftChange) -> str:
    who = f"{change.person} on " if change.what == "noted" and change.person else ""
    return f"{minute_of(change.time)} {who}{change.issue} {change.title}: {change.said}"
