"""``/api/document``: issues, or what failed in a span of time, as a document for the post-mortem."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from typing import Annotated, Final, Literal

from fastapi import Depends, Query
from fastapi.responses import Response

from obitus.core.clock import to_text
from obitus.core.documents import Block, Chart, Code, Heading, Listing, Paragraph, Prose, Table, as_html, as_markdown
from obitus.core.prose import read
from obitus.core.wording import count_of, minute_of
from obitus.service.api import against, issue_answers, timeline, views
from obitus.service.api.asked import TheWindow
from obitus.service.api.notes import ways_of
from obitus.service.api.since import since_answer
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import issues as issue_store
from obitus.store import notes as note_store
from obitus.store import releases as release_store
from obitus.store.errors import StoreError
from obitus.store.records import Records
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "bad-field", "bad-window", "not-found", "store-broken"
    ),
)

MOST_ISSUES: Final = 20
MOST_ENTRIES: Final = 60
MOST_FRAMES: Final = 12
MARKDOWN: Final = "text/markdown; charset=utf-8"


@router.get(
    "/document",
    summary="A document for the post-mortem",
    response_class=Response,
    responses={200: {"content": {"text/markdown": {}, "text/html": {}}, "description": "The document, as a download."}},
)
def document(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    person: SignedIn,
    window: TheWindow,
    issue: Annotated[
        list[Annotated[int, Query(ge=1, le=2**62)]] | None,
        Query(max_length=MOST_ISSUES, description="These issues; without any, those that failed most in the window."),
    ] = None,
    form: Annotated[Literal["markdown", "html"], Query(alias="as")] = "markdown",
    title: Annotated[str, Query(max_length=200, description="The heading.")] = "",
) -> Response:
    """Return what failed, since when, for whom, what led up to it, decisions, checks and notes, and whether the fix
    held. Values hidden in reports are hidden here.
    """
    numbers = issue or [
        row.id for row in issue_store.issues(records.reader, window, sort="failures", limit=MOST_ISSUES)
    ]
    blocks = list(_blocks(records, clock, numbers, window, title, whole=not issue))
    acts.note(person, "exported", f"a document about {', '.join(map(str, numbers[:10])) or 'no issue'} as {form}")
    made = as_markdown(blocks) if form == "markdown" else as_html(blocks)
    name = f"issue-{numbers[0]}" if issue and len(numbers) == 1 else f"issues-{to_text(window.from_ms)[:10]}"
    ending, kind = ("md", MARKDOWN) if form == "markdown" else ("html", "text/html; charset=utf-8")
    # A download: pages of this service contain only its own code.
    headers = {"Content-Disposition": f'attachment; filename="{name}.{ending}"'}
    return Response(made, media_type=kind, headers=headers)


def _blocks(
    records: Records, clock: Clock, numbers: list[int], window: Window, title: str, *, whole: bool
) -> Iterator[Block]:
    issues = [views.issue_answer(records, clock, number, window) for number in dict.fromkeys(numbers)]
    yield Heading(1, title or (f"Issue {issues[0].number}: {issues[0].title}" if len(issues) == 1 else "What failed"))
    span = f"{minute_of(to_text(window.from_ms))} to {minute_of(to_text(window.to_ms))} UTC"
    yield Paragraph(f"{span}. Written {minute_of(to_text(clock.now_ms()))} UTC.")
    if not issues:
        yield Paragraph("Nothing failed in this window.")
        return
    if len(issues) > 1 or whole:
        head = ("Issue", "What", "App", "State", "Failures", "Since")
        rows = [
            (str(issue.number), issue.title, issue.app, issue.state, f"{issue.failures:,}", issue.began_in or "–")
            for issue in issues
        ]
        yield Table(head, rows)
        deploys = release_store.deploys(records.reader, window.from_ms, window.to_ms, window.app, window.environment)
        if deploys:
            yield Heading(2, "Deploys")
            yield Listing(
                [
                    f"{minute_of(to_text(row.time_ms))}: {row.app} {row.version} in {row.environment}"
                    for row in reversed(deploys)
                ]
            )
    for issue in issues:
        yield from _of_issue(records, clock, issue, window, alone=len(issues) == 1)


def _of_issue(
    records: Records, clock: Clock, issue: issue_answers.IssueAnswer, window: Window, *, alone: bool
) -> Iterator[Block]:
    level = 2 if alone else 3
    if not alone:
        yield Heading(2, f"{issue.number}: {issue.title}")
    yield Heading(level, "What failed")
    yield Paragraph(issue.what_failed)
    if issue.message:
        yield Code(issue.message)
    yield Chart(issue.over_time, "Failures", minute_of(to_text(window.from_ms)), minute_of(to_text(window.to_ms)))
    if issue.users:
        yield Paragraph(f"It hit {count_of(issue.users, 'user')}.")
    since = since_answer(records, clock, issue.number)
    yield Heading(level, "Since when")
    yield Paragraph(since.sentence)
    yield Table(
        ("Release", "Arrived", "Failures", "Runs"),
        [
            (row.release or "without a name", minute_of(row.deployed or ""), f"{row.failures:,}", f"{row.runs:,}")
            for row in since.lane
        ],
    )
    yield Heading(level, "Where")
    yield from _stack(issue.latest)
    yield Heading(level, "Leading up to it")
    yield from _story(records, clock, issue.latest)
    if any(changes.commits for changes in since.changes):
        yield Heading(level, "Cause: likely changes")
        for changes in (issue for issue in since.changes if issue.commits):
            yield Paragraph(f"{changes.what} in {changes.release}:".capitalize())
            yield Listing(
                [
                    f"{ranked.commit.subject} ({ranked.commit.id[:10]}, {ranked.commit.author}): {'; '.join(ranked.reasons)}"
                    for ranked in changes.commits[:3]
                ]
            )
    yield Heading(level, "What was decided")
    yield Listing([f"{minute_of(entry.time)}: {entry.reason}" for entry in issue.history] or ["Nothing yet."])
    if issue.holder or issue.waits_for:
        waits = f" It waits for {issue.waits_for}." if issue.waits_for else ""
        yield Paragraph(f"It is with {issue.holder or 'nobody'}.{waits}")
    yield from _known(records, issue.number, level)
    yield Heading(level, "Did the fix hold?")
    lines = [
        f"{verdict.verdict}{f' in {verdict.environment}' if verdict.environment else ''}, settled {verdict.settled}: {verdict.reason}"
        for verdict in since.verdicts
    ]
    yield Listing(lines or ["It is not settled."])


def _stack(latest: issue_answers.FailureAnswer) -> Iterator[Block]:
    report = latest.report
    if report is None:
        yield Paragraph(latest.gone or "")
        return
    content = report if isinstance(report, dict) else report.model_dump(mode="json")
    for link in content["exceptions"]:
        yield Paragraph(f"{link['type']}: {link.get('message', '')}" if link.get("message") else link["type"])
        own = [frame for frame in link.get("frames", ()) if frame.get("own") is not False][-MOST_FRAMES:]
        lines = [
            f"{frame.get('module') or frame.get('file', '')}.{frame['function']}:{frame.get('line', '')}  {((frame.get('source') or {}).get('line') or '').strip()}"
            for frame in own
        ]
        if lines:
            yield Code("\n".join(lines))


def _story(records: Records, clock: Clock, latest: issue_answers.FailureAnswer) -> Iterator[Block]:
    try:
        failure = uuid.UUID(latest.id)
        turning = against.turning(records, failure)
        if turning.found:
            yield Paragraph(turning.said, "Turning point:")
        nothing = dict.fromkeys(("run", "trace", "user", "host", "at", "around"))
        steps = timeline.timeline(records, clock, failure=failure, **nothing)
    except (Problem, StoreError) as why:
        yield Paragraph(str(why))
        return
    rows = [
        (entry.time[11:23], entry.app, entry.kind, entry.said if len(entry.said) <= 300 else f"{entry.said[:299]}…")
        for entry in steps.entries[-MOST_ENTRIES:]
    ]
    if len(steps.entries) > len(rows):
        yield Paragraph(f"The last {len(rows)} of {len(steps.entries):,} steps.")
    yield Table(("Time, UTC", "App", "Kind", "What"), rows)
    if steps.notes:
        yield Listing(steps.notes)


def _known(records: Records, number: int, level: int) -> Iterator[Block]:
    notes = note_store.notes(records.reader, number)
    if not notes:
        return
    ways = ways_of(records)
    yield Heading(level, "Checks and notes")
    for note in notes:
        looked = f"{note.looked_at}: {note.found}. " if note.looked_at else ""
        yield Paragraph(f"{looked}{note.person}, {minute_of(to_text(note.time_ms))}")
        if note.text.strip():
            yield Prose(read(note.text, ways))
        if note.output.strip():
            yield Code(note.output)
