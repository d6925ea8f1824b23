"""``/api``: the desk, issues and failures."""

from __future__ import annotations

import uuid
from typing import Annotated, Literal

from fastapi import Depends, Path, Query

from obitus.core.asking import QuestionTrouble
from obitus.service.api import answers, issue_answers, views
from obitus.service.api.asked import Cursor, Limit, Question, TheWindow, bad_question, closed, opened, understood
from obitus.service.api.quiet import quiet_in
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.store import issues as store
from obitus.store.asking.finding import names_in
from obitus.store.asking.issues import Asked, asked_of_issues
from obitus.store.people import Person
from obitus.store.records import Records
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

DESK_ROWS = 8
# SQLite's integers have 64 bits; larger numbers belong to no issue.
Number = Annotated[int, Path(ge=1, le=2**62, description="The issue's number.")]


def asked_about_issues(records: Records, clock: Clock, question: str, window: Window, person: Person) -> Asked | None:
    """Compile a person's question about issues; a blank one has no conditions."""
    node = understood(question, clock)
    if node is None:
        return None
    try:
        return asked_of_issues(
            node, records.days, names_in(records.reader), (window.from_ms, window.to_ms), person.name
        )
    except QuestionTrouble as trouble:
        raise bad_question(trouble) from None


@router.get("/desk", summary="What needs a decision now", responses=described("bad-window"))
def desk(records: TheRecords, clock: TheClock, window: TheWindow, person: SignedIn) -> issue_answers.DeskAnswer:
    """Return my issues, then the unassigned ones (regressed, reopened, new), and those with most failures. By priority."""
    now_ms = clock.now_ms()

    def rows(states: list[str], sort: store.Sort, *, unassigned: bool = True) -> list[issue_answers.IssueRow]:
        found = store.issues(records.reader, window, states=states, sort=sort, limit=DESK_ROWS, unassigned=unassigned)
        return views.issue_rows(records, found, window, now_ms, by_priority=True)

    reopened = views.issue_rows(
        records, store.reopened(records.reader, window.app, DESK_ROWS), window, now_ms, by_priority=True
    )
    back = {row.number for row in reopened}
    newest = [
        row
        for row in rows(["untriaged"], "first-seen")
        if row.first_seen >= views.window_answer(window).start and row.number not in back
    ]
    regressed = rows(["regressed"], "last-seen")
    mine = views.issue_rows(
        records, store.held_by(records.reader, person.id, DESK_ROWS), window, now_ms, by_priority=True
    )
    shown = {row.number for row in (*regressed, *reopened, *newest, *mine)}
    most = rows(["untriaged", "accepted", "regressed", "parked"], "failures", unassigned=False)
    sums = store.sums(records.reader, window)
    return issue_answers.DeskAnswer(
        window=views.window_answer(window),
        issues=sums.issues,
        failures=sums.failures,
        mine=mine,
        regressed=regressed,
        reopened=reopened,
        new=newest,
        quiet=quiet_in(records, window),
        most_failures=[row for row in most if row.number not in shown],
    )


@router.get("/issues", summary="Issues", responses=described("bad-window", "bad-cursor", "bad-question"))
def issues(
    records: TheRecords,
    clock: TheClock,
    window: TheWindow,
    person: SignedIn,
    state: Annotated[list[answers.StateName] | None, Query(description="Only these states; may be repeated.")] = None,
    question: Question = None,
    sort: Annotated[
        Literal["last-seen", "first-seen", "failures"],
        Query(description="By last failure, by first failure, or by failures inside the window."),
    ] = "last-seen",
    cursor: Cursor = None,
    limit: Limit = 50,
) -> issue_answers.IssuesAnswer:
    """Return issues with failures inside the window, a page at a time."""
    states: list[str] | None = list(state) if state else None
    after = opened(cursor, sort)
    question_read = asked_about_issues(records, clock, question, window, person) if question else None
    rows = store.issues(
        records.reader, window, states=states, asked=question_read, sort=sort, after=after, limit=limit + 1
    )
    page = rows[:limit]
    sums = store.sums(records.reader, window, states=states, asked=question_read)
    following = None
    if len(rows) > limit:
        last = page[-1]
        value = {"last-seen": last.last_ms, "first-seen": last.first_ms, "failures": last.failures}[sort]
        following = closed(value, last.id, sort)
    return issue_answers.IssuesAnswer(
        window=views.window_answer(window),
        issues=views.issue_rows(records, page, window, clock.now_ms()),
        issues_in_all=sums.issues,
        failures_in_all=sums.failures,
        next=following,
    )


@router.get("/issues/{number}", summary="One issue, whole", responses=described("not-found", "bad-window"))
def issue(records: TheRecords, clock: TheClock, window: TheWindow, number: Number) -> issue_answers.IssueAnswer:
    """Return one issue with its first and its latest failure, its releases, its history, and why it is one."""
    return views.issue_answer(records, clock, number, window)


@router.get(
    "/issues/{number}/failures",
    summary="Failures of an issue",
    responses=described("not-found", "bad-window", "bad-cursor"),
)
def failures(
    records: TheRecords, window: TheWindow, number: Number, cursor: Cursor = None, limit: Limit = 50
) -> issue_answers.FailuresAnswer:
    """Return failures of an issue inside the window, latest first, a page at a time."""
    store.issue(records.reader, number)
    after = opened(cursor, "failures")
    rows = store.failures(records.reader, number, window, after=after, limit=limit + 1)
    page = rows[:limit]
    following = closed(page[-1].time_ms, page[-1].seq, "failures") if len(rows) > limit else None
    return issue_answers.FailuresAnswer(failures=views.failure_rows(page), next=following)


@router.get("/failures/{id}", summary="One failure, whole", responses=described("not-found"))
def failure(records: TheRecords, id: uuid.UUID) -> issue_answers.FailureAnswer:
    """Return one failure with everything that was captured."""
    return views.failure_answer(records, store.failure_with_id(records.reader, id.bytes))
