"""``/api``: the desk, issues, failures, and the decisions on them."""

from __future__ import annotations

import sqlite3
import uuid
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Path, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.asking import QuestionTrouble
from obitus.core.lifecycle import Decision, Settling
from obitus.core.priority import Level
from obitus.core.releases import MOST_SIGNS, canonical
from obitus.service.api import answers, views
from obitus.service.api.asked import Cursor, Limit, Question, TheWindow, bad_question, closed, opened, understood
from obitus.service.api.quiet import quiet_in
from obitus.service.clock import Clock
from obitus.service.given import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.store import issues as store
from obitus.store import priorities, team
from obitus.store import releases as release_store
from obitus.store.asking.finding import names_in
from obitus.store.asking.issues import Asked, asked_of_issues
from obitus.store.people import Person
from obitus.store.records import Records
from obitus.store.windows import Window

router = APIRouter(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

DESK_ROWS = 8
# SQLite's integers have 64 bits; a number beyond them is no issue's.
Number = Annotated[int, Path(ge=1, le=2**62, description="The issue's number.")]


def _asked(records: Records, clock: Clock, question: str, window: Window) -> Asked | None:
    """Return what a question about issues comes to; one of nothing but spaces asks nothing."""
    node = understood(question, clock)
    if node is None:
        return None
    try:
        return asked_of_issues(node, records.days, names_in(records.reader), (window.from_ms, window.to_ms))
    except QuestionTrouble as trouble:
        raise bad_question(trouble) from None


@router.get("/desk", summary="What needs a decision now", responses=described("bad-window"))
def desk(records: TheRecords, clock: TheClock, window: TheWindow, person: SignedIn) -> answers.DeskAnswer:
    """Return what I have, what regressed, what is new and what fails most inside the window; of each what matters most first."""
    now_ms = clock.now_ms()

    def rows(states: list[str], sort: store.Sort) -> list[answers.IssueRow]:
        found = store.issues(records.reader, window, states=states, sort=sort, limit=DESK_ROWS)
        return views.issue_rows(records, found, window, now_ms, by_priority=True)

    newest = [row for row in rows(["untriaged"], "first-seen") if row.first_seen >= views.window_answer(window).start]
    regressed = rows(["regressed"], "last-seen")
    mine = views.issue_rows(
        records, store.held_by(records.reader, person.id, DESK_ROWS), window, now_ms, by_priority=True
    )
    shown = {row.number for row in (*regressed, *newest, *mine)}
    most = rows(["untriaged", "accepted", "regressed", "parked"], "failures")
    sums = store.sums(records.reader, window)
    return answers.DeskAnswer(
        window=views.window_answer(window),
        issues=sums.issues,
        failures=sums.failures,
        mine=mine,
        regressed=regressed,
        new=newest,
        quiet=quiet_in(records, window),
        most_failures=[row for row in most if row.number not in shown],
    )


@router.get("/issues", summary="Issues", responses=described("bad-window", "bad-cursor", "bad-question"))
def issues(
    records: TheRecords,
    clock: TheClock,
    window: TheWindow,
    state: Annotated[list[answers.StateName] | None, Query(description="Only these states; may be repeated.")] = None,
    question: Question = None,
    sort: Annotated[
        Literal["last-seen", "first-seen", "failures"],
        Query(description="By last failure, by first failure, or by failures inside the window."),
    ] = "last-seen",
    cursor: Cursor = None,
    limit: Limit = 50,
) -> answers.IssuesAnswer:
    """Return issues with failures inside the window, a page at a time."""
    states: list[str] | None = list(state) if state else None
    after = opened(cursor, sort)
    asked = _asked(records, clock, question, window) if question else None
    found = store.issues(records.reader, window, states=states, asked=asked, sort=sort, after=after, limit=limit + 1)
    page = found[:limit]
    sums = store.sums(records.reader, window, states=states, asked=asked)
    following = None
    if len(found) > limit:
        last = page[-1]
        value = {"last-seen": last.last_ms, "first-seen": last.first_ms, "failures": last.failures}[sort]
        following = closed(value, last.id, sort)
    return answers.IssuesAnswer(
        window=views.window_answer(window),
        issues=views.issue_rows(records, page, window, clock.now_ms()),
        issues_in_all=sums.issues,
        failures_in_all=sums.failures,
        next=following,
    )


@router.get("/issues/{number}", summary="One issue, whole", responses=described("not-found", "bad-window"))
def issue(records: TheRecords, clock: TheClock, window: TheWindow, number: Number) -> answers.IssueAnswer:
    """Return one issue with its first and its latest failure, its releases, its history, and why it is one."""
    return views.issue_answer(records, clock, number, window)


@router.get(
    "/issues/{number}/failures",
    summary="Failures of an issue",
    responses=described("not-found", "bad-window", "bad-cursor"),
)
def failures(
    records: TheRecords, window: TheWindow, number: Number, cursor: Cursor = None, limit: Limit = 50
) -> answers.FailuresAnswer:
    """Return failures of an issue inside the window, latest first, a page at a time."""
    store.issue(records.reader, number)
    after = opened(cursor, "failures")
    found = store.failures(records.reader, number, window, after=after, limit=limit + 1)
    page = found[:limit]
    following = closed(page[-1].time_ms, page[-1].seq, "failures") if len(found) > limit else None
    return answers.FailuresAnswer(failures=views.failure_rows(page), next=following)


@router.get("/failures/{id}", summary="One failure, whole", responses=described("not-found"))
def failure(records: TheRecords, id: uuid.UUID) -> answers.FailureAnswer:
    """Return one failure with everything that was captured."""
    return views.failure_answer(records, store.failure_with_id(records.reader, id.bytes))


class SettleOrder(BaseModel):
    """From when an issue is fixed: from a release, from now whatever the release, or from the coming release."""

    model_config = ConfigDict(extra="forbid")

    release: str | None = Field(
        default=None,
        min_length=1,
        max_length=MOST_SIGNS,
        description="The release with the fix; it need not have come yet. The newest known when neither it nor `how` is given.",
    )
    how: Literal["release", "now", "coming"] = Field(
        default="release",
        description="Fixed from the `release`, from `now` whatever the release, or from the `coming` release.",
    )
    environment: str | None = Field(
        default=None, min_length=1, max_length=60, description="Settle it there only; everywhere when absent."
    )


Seen = Annotated[
    answers.StateName | None,
    Query(description="The state that the person saw. If it changed meanwhile, the answer is 409 and nothing is done."),
]


@router.post(
    "/issues/{number}/accept",
    summary="Accept an issue",
    responses=described("not-found", "foreign-origin", "changed-meanwhile"),
)
def accept(records: TheRecords, clock: TheClock, person: SignedIn, number: Number, seen: Seen = None) -> answers.Done:
    """Say that somebody works on it."""
    return _decide(records, clock, person, number, "accept", seen)


@router.post(
    "/issues/{number}/park",
    summary="Park an issue",
    responses=described("not-found", "foreign-origin", "changed-meanwhile"),
)
def park(records: TheRecords, clock: TheClock, person: SignedIn, number: Number, seen: Seen = None) -> answers.Done:
    """Put it aside; failures go on being counted."""
    return _decide(records, clock, person, number, "park", seen)


@router.post(
    "/issues/{number}/settle",
    summary="Settle an issue in a release",
    responses=described("not-found", "foreign-origin", "no-release", "changed-meanwhile"),
)
def settle(
    records: TheRecords,
    clock: TheClock,
    person: SignedIn,
    number: Number,
    order: SettleOrder | None = None,
    seen: Seen = None,
) -> answers.Done:
    """Say where it is fixed. Seen again where the fix should be, it is back as `regressed`."""
    order = order or SettleOrder()
    row = store.issue(records.reader, number)
    newest = release_store.newest(records.reader, row.app_id)
    release = canonical(order.release) if order.release is not None else None
    if order.how == "release" and release is None:
        if newest is None:
            raise Problem(
                "no-release",
                f"{row.app} has named no release yet. Say which one has the fix, or settle it now.",
                field="release",
            )
        release = newest
    if order.how != "release" and release is not None:
        raise Problem("bad-field", f"With how={order.how}, leave the release out.", field="release")
    settling = Settling(
        order.how, clock.now_ms(), release, newest if order.how == "coming" else None, order.environment or ""
    )
    return _decide(records, clock, person, number, "settle", seen, settling)


class PriorityOrder(BaseModel):
    """How much somebody says that an issue matters."""

    model_config = ConfigDict(extra="forbid", strict=True)

    level: Level | None = Field(description="With null it is worked out again.")


@router.post(
    "/issues/{number}/priority",
    summary="Say how much an issue matters",
    responses=described("not-found", "foreign-origin"),
)
def say_priority(
    records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: PriorityOrder
) -> answers.Done:
    """Correct the priority that was worked out, or leave it to be worked out again."""
    now_ms = clock.now_ms()
    records.writer.run(lambda c: priorities.say(c, number, order.level, by=(person.id, person.name), now_ms=now_ms))
    return answers.Done()


class HandOver(BaseModel):
    """Who has an issue from now on, and what it waits for."""

    model_config = ConfigDict(extra="forbid", strict=True)

    to: str | None = Field(max_length=60, description="The name of one of the people; nobody with null.")
    waits_for: str = Field(default="", max_length=200, description="Whom or what it waits for, in words.")
    seen: str | None = Field(
        default=None,
        max_length=60,
        description="Who was seen having it, '' for nobody. If that changed meanwhile, the answer is 409 and nothing is done.",
    )


@router.post(
    "/issues/{number}/hand-over",
    summary="Hand an issue over",
    responses=described("not-found", "foreign-origin", "changed-meanwhile"),
)
def hand_over(records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: HandOver) -> answers.Done:
    """Give an issue to somebody who may decide about it, take it, or put it back; say what it waits for."""
    row, now_ms = store.issue(records.reader, number), clock.now_ms()

    def act(connection: sqlite3.Connection) -> None:
        to = None
        if order.to is not None:
            to = (team.may_have(connection, order.to, row.app_id), order.to)
        store.hand_over(
            connection, number, to, order.waits_for.strip(), by=(person.id, person.name), seen=order.seen, now_ms=now_ms
        )

    records.writer.run(act)
    return answers.Done()


def _decide(
    records: Records,
    clock: Clock,
    person: Person,
    number: int,
    decision: Decision,
    seen: answers.StateName | None,
    settling: Settling | None = None,
) -> answers.Done:
    now_ms = settling.time_ms if settling is not None else clock.now_ms()
    records.writer.run(
        lambda c: store.decide(
            c, number, decision, settling=settling, seen=seen, person_id=person.id, person=person.name, now_ms=now_ms
        )
    )
    return answers.Done()
