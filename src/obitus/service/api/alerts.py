"""``/api/alerts``: firings, their reasons, recipients and deliveries; silences; and the links in messages."""

from __future__ import annotations

import json
import sqlite3
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Path, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.alerting.conditions import Measured, amount_said, read_condition
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.clock import DAY_MS, MINUTE_MS, to_text
from obitus.core.parking import Until
from obitus.core.priority import Level
from obitus.core.wording import minute_of
from obitus.service.alerting.active_rules import TheRuleBook
from obitus.service.alerting.composing import Composer
from obitus.service.alerting.delivering import TheDelivering
from obitus.service.api import answers
from obitus.service.api.asked import TheWindow
from obitus.service.api.channels import MessageAnswer, message_answer
from obitus.service.api.times import time_in_query
from obitus.service.dependencies import TheClock, TheRecords, part
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.secrets import hash_of
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import apps, deciding
from obitus.store import issues as issue_store
from obitus.store.alerts import channels, firings, messages, rules
from obitus.store.errors import NotThere
from obitus.store.records import OpenRecords, Records
from obitus.store.rows.alerts import FiringRow, LinkAct, LinkRow, SilenceRow
from obitus.store.rows.issues import Issue

router = Router(
    prefix="/api",
    tags=["alerts"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)
open_router = Router(prefix="/api", tags=["alerts"], responses=described("bad-field", "foreign-origin", "store-broken"))

Number = Annotated[int, Path(ge=1, le=2**62)]
LONGEST_SILENCE_MS: Final = 30 * DAY_MS
PARKED_MS: Final = DAY_MS
AllRecords = Annotated[OpenRecords, part("records")]


class FiringAnswer(BaseModel):
    """A firing of a rule."""

    number: int
    rule: str
    when: str
    priority: Level
    title: str
    about: list[str] = Field(description="The values of its groups.")
    issue: int | None
    environment: str
    begun: answers.Time
    noted: answers.Time = Field(description="When the service knew.")
    over: answers.Time | None
    is_over: bool = Field(description="Rules over events fire once: these are over at once.")
    value: str
    bound: str
    worst: str
    reason: str
    over_time: list[float] = Field(description="Earlier values, by slot, the newest last.")
    records: str = Field(description="The address of the search that finds exactly what caused it.")
    held_back: str = Field(description="Why nothing was sent of it by itself, '' where something was.")
    accepted: answers.Time | None
    accepted_by: str
    escalates: answers.Time | None
    escalated: answers.Time | None
    messages: list[MessageAnswer]


class FiringsAnswer(BaseModel):
    """Firings of a window, the latest first."""

    firings: list[FiringAnswer]
    open: int = Field(description="Those that are not over.")


class AcceptAnswer(BaseModel):
    """Whether it was the first to accept."""

    first: bool
    accepted_by: str


class SilenceOrder(BaseModel):
    """A time in which rules send nothing. A field that is not named is not a limit."""

    model_config = ConfigDict(extra="forbid", strict=True)

    reason: str = Field(min_length=1, max_length=300)
    minutes: int | None = Field(
        default=None, ge=1, le=LONGEST_SILENCE_MS // MINUTE_MS, description="For so long, from its start."
    )
    start: str | None = Field(default=None, max_length=40, description="RFC 3339; now when absent.")
    end: str | None = Field(default=None, max_length=40, description="RFC 3339, instead of `minutes`.")
    rule: str | None = Field(default=None, max_length=60)
    app: str | None = Field(default=None, max_length=100)
    environment: str | None = Field(default=None, max_length=100)
    issue: int | None = Field(default=None, ge=1, le=2**62)


class SilenceAnswer(BaseModel):
    """A time in which rules send nothing; it ends by itself."""

    number: int
    start: answers.Time
    end: answers.Time
    rule: str | None
    app: str | None
    environment: str | None
    issue: int | None
    reason: str
    said_by: str
    said: str
    active: bool = Field(description="Whether it is active now; otherwise it is planned.")


class SilencesAnswer(BaseModel):
    """Active and planned silences."""

    silences: list[SilenceAnswer]


class AlertLinkOrder(BaseModel):
    """The part of a link after `#`."""

    model_config = ConfigDict(extra="forbid", strict=True)

    secret: str = Field(min_length=10, max_length=200)


class AlertLinkAnswer(BaseModel):
    """The action of a link, before it is used."""

    act: LinkAct
    asks: str = Field(description="What will be done, as a question.")
    title: str
    state: str = Field(description="How the issue is now, '' where there is none.")
    good: bool
    why_not: str


class AlertLinkUsed(BaseModel):
    """What was done."""

    said: str


@router.get("/alerts", summary="What fired", responses=described("bad-window"))
def alerts(
    records: TheRecords,
    clock: TheClock,
    delivering: TheDelivering,
    window: TheWindow,
    rule: Annotated[str | None, Query(max_length=60)] = None,
    issue: Annotated[int | None, Query(ge=1, le=2**62)] = None,
) -> FiringsAnswer:
    """Return the firings of a window, and all that are not over; with the delivery of each message."""
    rows = firings.latest(records.reader, window.from_ms, window.to_ms, rule=rule, issue=issue)
    still = [
        row for row in firings.open_ones(records.reader) if rule in (None, row.rule) and issue in (None, row.issue_id)
    ]
    every = {row.id: row for row in (*still, *rows)}
    found = sorted(every.values(), key=lambda row: (row.begun_ms, row.id), reverse=True)
    return FiringsAnswer(firings=_firings(records, delivering.composer, found), open=len(still))


@router.get("/alerts/{number}", summary="One firing", responses=described("not-found"))
def alert(records: TheRecords, delivering: TheDelivering, number: Number) -> FiringAnswer:
    """Return one firing: the rule, the value, its cause, the recipients, and each delivery."""
    return _firings(records, delivering.composer, [firings.firing(records.reader, number)])[0]


@router.post("/alerts/{number}/accept", summary="Accept a firing", responses=described("not-found"))
def accept(records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number) -> AcceptAnswer:
    """Accept a firing: nobody else is notified. Its issue is not changed."""
    firings.firing(records.reader, number)
    now_ms = clock.now_ms()
    first = acts.do(person.id, "accepted alert", str(number), lambda c: firings.accept(c, number, person.name, now_ms))
    return AcceptAnswer(first=first, accepted_by=firings.firing(records.reader, number).accepted_by)


@router.get("/silences", summary="Silences")
def silences(records: TheRecords, clock: TheClock) -> SilencesAnswer:
    """Return active and planned silences."""
    now_ms = clock.now_ms()
    return SilencesAnswer(silences=[_silence(row, now_ms) for row in rules.silences(records.reader, now_ms)])


@router.post(
    "/silences",
    status_code=201,
    summary="Silence rules for a time",
    responses=described("not-found", "too-many", "bad-window"),
)
def silence(
    records: TheRecords, clock: TheClock, acts: TheActs, book: TheRuleBook, person: SignedIn, order: SilenceOrder
) -> SilenceAnswer:
    """Let rules send nothing for a time, with a reason: now, or while there is maintenance. It ends by itself.
    Firings are recorded."""
    now_ms = clock.now_ms()
    start_ms, end_ms = _span(order, now_ms)
    rule_id = None if order.rule is None else rules.named(records.reader, order.rule).id
    app_id = None if order.app is None else apps.app_named(records.reader, order.app).id
    if order.issue is not None:
        issue_store.issue(records.reader, order.issue)
    elif app_id is None and not person.sight.is_whole:
        raise Problem(
            "bad-field", "Name the app or the issue: you do not see all of what would be silent.", field="app"
        )

    def write(connection: sqlite3.Connection) -> int:
        return rules.silence(
            connection, (start_ms, end_ms), order.reason, person.name, now_ms,
            rule_id=rule_id, app_id=app_id, environment=order.environment, issue_id=order.issue,
        )  # fmt: skip

    number = acts.do(
        person.id,
        "silenced",
        f"{_of_what(order.rule, order.app, order.environment, order.issue)} until {minute_of(to_text(end_ms))}: {order.reason}",
        write,
    )
    book.changed()
    row = next(row for row in rules.silences(records.reader, now_ms) if row.id == number)
    return _silence(row, now_ms)


@router.delete("/silences/{number}", summary="End a silence", responses=described("not-found"))
def end_silence(
    records: TheRecords, clock: TheClock, acts: TheActs, book: TheRuleBook, person: SignedIn, number: Number
) -> answers.Done:
    """End a silence before its time."""
    if all(row.id != number for row in rules.silences(records.reader, clock.now_ms())):
        raise NotThere(f"there is no silence {number}")
    acts.do(person.id, "ended silence", str(number), lambda c: rules.end_silence(c, number, clock.now_ms()))
    book.changed()
    return answers.Done()


@open_router.post("/alert-link", summary="What a link in a message does", responses=described("not-found"))
def look_at_link(
    records: AllRecords, clock: TheClock, delivering: TheDelivering, order: AlertLinkOrder
) -> AlertLinkAnswer:
    """Return the action of a link without doing it. No sign-in is needed."""
    link, row, issue = _linked(records, order.secret)
    why_not = _why_not(link, clock.now_ms())
    return AlertLinkAnswer(
        act=link.act,
        asks=_asks(link.act, row, issue),
        title=delivering.composer.title(row, issue),
        state=""
        if issue is None
        else f"Issue {issue.id} is {issue.state}{f', with {issue.holder}' if issue.holder else ''}.",
        good=not why_not,
        why_not=why_not,
    )


@open_router.post(
    "/alert-link/use", summary="Do what a link in a message does", responses=described("not-found", "changed-meanwhile")
)
def use_link(
    records: AllRecords, clock: TheClock, acts: TheActs, book: TheRuleBook, order: AlertLinkOrder
) -> AlertLinkUsed:
    """Do the action of a link, once: accept, park or silence. It is recorded as done by the link."""
    link, row, issue = _linked(records, order.secret)
    now_ms = clock.now_ms()
    if why_not := _why_not(link, now_ms):
        raise Problem("not-found", why_not)
    channel = channels.named(records.reader, link.channel)
    whose = None if channel.person_id is None else (channel.person_id, channel.person or "")
    said_by = f"The link in a message to {link.channel}"

    def write(connection: sqlite3.Connection) -> str:
        messages.use_link(connection, hash_of(order.secret), now_ms)
        return _do(connection, link.act, row, issue, whose, said_by, now_ms)

    sentence = acts.do(channel.person_id, f"used link to {link.act}", f"firing {row.id}, {link.channel}", write)
    book.changed()
    return AlertLinkUsed(said=sentence)


def _do(
    connection: sqlite3.Connection,
    act: LinkAct,
    row: FiringRow,
    issue: Issue | None,
    whose: tuple[int, str] | None,
    said_by: str,
    now_ms: int,
) -> str:
    by = whose[1] if whose is not None else said_by
    if act == "silence":
        span_ms = (now_ms, now_ms + DAY_MS)
        if issue is not None:
            rules.silence(connection, span_ms, "by a link", by, now_ms, issue_id=issue.id)
            return f"Alerts about issue {issue.id} are silent until {minute_of(to_text(span_ms[1]))} UTC."
        rules.silence(connection, span_ms, "by a link", by, now_ms, rule_id=row.rule_id)
        return f"The rule {row.rule} is silent until {minute_of(to_text(span_ms[1]))} UTC."
    firings.accept(connection, row.id, by, now_ms)
    if issue is None:
        return "Accepted: nobody else is notified."
    if act == "park":
        order = deciding.DecisionOrder("park", until=Until(time_ms=now_ms + PARKED_MS))
        sentence = deciding.decide_by_link(connection, issue.id, order, whose, said_by, now_ms)
        return f"Issue {issue.id} is parked until {minute_of(to_text(now_ms + PARKED_MS))} UTC. {sentence}"
    sentence = deciding.decide_by_link(connection, issue.id, deciding.DecisionOrder("accept"), whose, said_by, now_ms)
    return f"Issue {issue.id} is accepted. {sentence}"


def _linked(records: Records, secret: str) -> tuple[LinkRow, FiringRow, Issue | None]:
    link = messages.link(records.reader, hash_of(secret))
    if link is None:
        raise Problem(
            "not-found", "This link is not known here, or it is long past its time. Open the console instead."
        )
    row = firings.firing(records.reader, link.firing_id)
    issue = None
    if row.issue_id is not None:
        try:
            issue = issue_store.issue(records.reader, row.issue_id)
        except NotThere:
            raise Problem("not-found", f"Issue {row.issue_id} is not there any more.") from None
    return link, row, issue


def _why_not(link: LinkRow, now_ms: int) -> str:
    if link.used_ms is not None:
        return f"This link was used at {minute_of(to_text(link.used_ms))} UTC. Each works once."
    if link.expires_ms <= now_ms:
        return f"This link was valid until {minute_of(to_text(link.expires_ms))} UTC. Open the console instead."
    return ""


def _asks(act: LinkAct, row: FiringRow, issue: Issue | None) -> str:
    what = f"issue {issue.id}" if issue is not None else f"what the rule {row.rule} fired for"
    return {
        "accept": f"Accept {what}?",
        "park": f"Park {what} for a day?",
        "silence": f"Silence {f'alerts about issue {issue.id}' if issue is not None else f'the rule {row.rule}'} for a day?",
    }[act]


def _span(order: SilenceOrder, now_ms: int) -> tuple[int, int]:
    start_ms = time_in_query(order.start, "start") if order.start else now_ms
    if (order.minutes is None) == (order.end is None):
        raise Problem("bad-field", "Say either for how many minutes, or until when.", field="minutes")
    end_ms = start_ms + (order.minutes or 0) * MINUTE_MS if order.end is None else time_in_query(order.end, "end")
    if not now_ms < end_ms <= start_ms + LONGEST_SILENCE_MS or end_ms <= start_ms:
        raise Problem(
            "bad-window", "A silence ends in the future, behind its start, and lasts up to 30 days.", field="end"
        )
    return start_ms, end_ms


def _of_what(rule: str | None, app: str | None, environment: str | None, issue: int | None) -> str:
    parts = [
        f"rule {rule}" if rule else "",
        f"app {app}" if app else "",
        f"environment {environment}" if environment else "",
        f"issue {issue}" if issue else "",
    ]
    return ", ".join(one for one in parts if one) or "all rules"


def _silence(row: SilenceRow, now_ms: int) -> SilenceAnswer:
    of_what = _of_what(row.rule, row.app, row.environment, row.issue_id)
    return SilenceAnswer(
        number=row.id,
        start=to_text(row.from_ms),
        end=to_text(row.until_ms),
        rule=row.rule,
        app=row.app,
        environment=row.environment,
        issue=row.issue_id,
        reason=row.reason,
        said_by=row.said_by,
        said=f"{of_what[:1].upper()}{of_what[1:]}, until {minute_of(to_text(row.until_ms))} UTC: {row.reason} ({row.said_by})",
        active=row.from_ms <= now_ms < row.until_ms,
    )


def _firings(records: Records, composer: Composer, rows: list[FiringRow]) -> list[FiringAnswer]:
    sent = messages.of_firings(records.reader, [row.id for row in rows])
    numbers = [row.issue_id for row in rows if row.issue_id is not None]
    issues = {issue.id: issue for issue in issue_store.numbered(records.reader, numbers)}
    return [
        _firing(row, issues.get(row.issue_id or 0), composer, [message_answer(one) for one in sent.get(row.id, [])])
        for row in rows
    ]


def _firing(row: FiringRow, issue: Issue | None, composer: Composer, sent: list[MessageAnswer]) -> FiringAnswer:
    condition: Any = None
    try:
        condition = read_condition(row.condition, row.begun_ms)
    except QuestionTrouble:
        condition = None

    def amount(value: float | None) -> str:
        return amount_said(condition, value) if isinstance(condition, Measured) and value is not None else ""

    records = json.loads(row.records)
    kind: Literal["event", "window"] = "event" if row.event_id is not None else "window"
    return FiringAnswer(
        number=row.id,
        rule=row.rule,
        when=row.condition,
        priority=row.priority,
        title=composer.title(row, issue),
        about=list(firings.key_of(row)),
        issue=row.issue_id,
        environment=row.environment,
        begun=to_text(row.begun_ms),
        noted=to_text(row.noted_ms),
        over=None if row.over_ms is None else to_text(row.over_ms),
        is_over=kind == "event" or row.over_ms is not None,
        value=amount(row.value),
        bound=amount(row.bound),
        worst=amount(row.worst),
        reason=row.reason,
        over_time=json.loads(row.over_time),
        records=composer.search(records),
        held_back=row.held_back,
        accepted=None if row.accepted_ms is None else to_text(row.accepted_ms),
        accepted_by=row.accepted_by,
        escalates=None if row.escalates_ms is None else to_text(row.escalates_ms),
        escalated=None if row.escalated_ms is None else to_text(row.escalated_ms),
        messages=sent,
    )
