"""``/api/issues/…`` and ``/api/decisions``: decisions about issues, one or many at once, and their undo."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Path, Query
from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from obitus.core.clock import LAST_MS, shown_ms, to_ms
from obitus.core.lifecycle import Settling
from obitus.core.parking import MOST_AN_HOUR, MOST_FAILURES, MOST_PEOPLE, Another, Until, as_another
from obitus.core.priority import Level
from obitus.core.releases import MOST_CHARACTERS, canonical
from obitus.service.api import answers
from obitus.service.api.issues import Number
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, as_problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.store import deciding
from obitus.store import issues as store
from obitus.store import releases as release_store
from obitus.store.deciding import Decided, DecisionOrder, ExpectedState
from obitus.store.errors import NotThere, StoreError
from obitus.store.people import Person
from obitus.store.records import Records

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

MOST_AT_ONCE: Final = 500
_CHANGES: Final = described("not-found", "changed-meanwhile")


class SettleOrder(BaseModel):
    """Where the fix of an issue begins: a release, now in any release, or the coming release."""

    model_config = ConfigDict(extra="forbid")

    release: str | None = Field(
        default=None,
        min_length=1,
        max_length=MOST_CHARACTERS,
        description="The release with the fix; it need not have come yet. The newest known when neither it nor `how` is given.",
    )
    how: Literal["release", "now", "coming"] = Field(
        default="release",
        description="Fixed from the `release`, from `now` whatever the release, or from the `coming` release.",
    )
    environment: str | None = Field(
        default=None, min_length=1, max_length=60, description="Settle it there only; everywhere when absent."
    )


class ParkOrder(BaseModel):
    """The conditions of a parked issue: the first that comes true reopens it; without any, only a person does."""

    model_config = ConfigDict(extra="forbid")

    until: AwareDatetime | None = Field(default=None, description="A time in the future.")
    failures: Annotated[int, Field(ge=1, le=MOST_FAILURES)] | None = Field(default=None, description="So many more.")
    an_hour: Annotated[int, Field(ge=1, le=MOST_AN_HOUR)] | None = Field(
        default=None, description="A number of failures within one hour."
    )
    people: Annotated[int, Field(ge=1, le=MOST_PEOPLE)] | None = Field(
        default=None, description="A number of further people."
    )
    another: Annotated[list[Another], Field(max_length=3)] = Field(
        default=[],
        description="A failure in another one: a later `release` than those it was seen in, an `environment` where it was not seen, "
        "or the same failure in an `app` that did not have it.",
    )


class PriorityOrder(BaseModel):
    """The priority that a person sets."""

    model_config = ConfigDict(extra="forbid", strict=True)

    level: Level | None = Field(description="With null it is computed again.")


class HandTo(BaseModel):
    """The person who gets an issue, and what it waits for."""

    model_config = ConfigDict(extra="forbid", strict=True)

    to: str | None = Field(max_length=60, description="The name of one of the people; nobody with null.")
    waits_for: str | None = Field(
        default=None,
        max_length=200,
        description="Whom or what it waits for, in words, '' for nothing; unchanged when absent.",
    )


class HandOver(HandTo):
    """The same, with the person who was seen having it."""

    seen: str | None = Field(
        default=None,
        max_length=60,
        description="Who was seen having it, '' for nobody. If that changed meanwhile, the answer is 409 and nothing is done.",
    )


class SeenIssue(BaseModel):
    """An issue as the deciding person saw it."""

    model_config = ConfigDict(extra="forbid", strict=True)

    number: Annotated[int, Field(ge=1, le=2**62)]
    state: answers.StateName | None = Field(default=None, description="Its state; not looked at when absent.")
    since: str | None = Field(default=None, max_length=40, description="Its `state_since`; not looked at when absent.")
    holder: str | None = Field(
        default=None, max_length=60, description="Who was seen having it, '' for nobody; not looked at when absent."
    )


class ManyOrder(BaseModel):
    """One decision about several issues. Exactly one of `accept`, `park`, `settle`, `hand_over` and `priority` is given."""

    model_config = ConfigDict(extra="forbid")

    issues: Annotated[list[SeenIssue], Field(min_length=1, max_length=MOST_AT_ONCE)]
    accept: Literal[True] | None = None
    park: ParkOrder | None = None
    settle: SettleOrder | None = None
    hand_over: HandTo | None = None
    priority: PriorityOrder | None = None


class LeftIssue(BaseModel):
    """An issue that was left as it is."""

    number: int
    slug: str
    why: str
    there: dict[str, Any] | None = Field(default=None, description="Its present values, where it changed meanwhile.")


class DecidedAnswer(BaseModel):
    """The result of a decision."""

    decision: int | None = Field(
        description="Its number, to take it back by within seven days; null where nothing was changed."
    )
    done: list[int] = Field(description="The issues that are as it was decided.")
    left: list[LeftIssue] = Field(description="Those that were left as they are, and why.")
    said: str = Field(default="", description="The decision that was undone.")


DecisionNumber = Annotated[int, Path(ge=1, le=2**62, description="The number that the decision was answered with.")]
SeenState = Annotated[
    answers.StateName | None,
    Query(description="The state that the person saw. If it changed meanwhile, the answer is 409 and nothing is done."),
]
SeenSince = Annotated[
    str | None,
    Query(
        max_length=40,
        description="The `state_since` that the person saw: somebody may have decided the same meanwhile.",
    ),
]


@router.post("/issues/{number}/accept", summary="Accept an issue", responses=_CHANGES)
def accept(
    records: TheRecords,
    clock: TheClock,
    person: SignedIn,
    number: Number,
    seen: SeenState = None,
    since: SeenSince = None,
) -> DecidedAnswer:
    """Say that somebody works on it. An unassigned issue becomes the asker's."""
    return _one(records, clock, person, number, _seen(seen, since), DecisionOrder("accept"))


@router.post("/issues/{number}/park", summary="Park an issue", responses=_CHANGES)
def park(
    records: TheRecords,
    clock: TheClock,
    person: SignedIn,
    number: Number,
    order: ParkOrder | None = None,
    seen: SeenState = None,
    since: SeenSince = None,
) -> DecidedAnswer:
    """Put it aside until a condition comes true; failures are still counted."""
    made = _Orders(records, clock).parked(number, order or ParkOrder())
    return _one(records, clock, person, number, _seen(seen, since), made)


@router.post(
    "/issues/{number}/settle",
    summary="Settle an issue in a release",
    responses=described("not-found", "changed-meanwhile", "no-release"),
)
def settle(
    records: TheRecords,
    clock: TheClock,
    person: SignedIn,
    number: Number,
    order: SettleOrder | None = None,
    seen: SeenState = None,
    since: SeenSince = None,
) -> DecidedAnswer:
    """Say where it is fixed. After a failure in a release with the fix it is `regressed`."""
    made = _Orders(records, clock).settled(number, order or SettleOrder())
    return _one(records, clock, person, number, _seen(seen, since), made)


@router.post("/issues/{number}/priority", summary="Set the priority of an issue", responses=described("not-found"))
def say_priority(
    records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: PriorityOrder
) -> DecidedAnswer:
    """Set the priority, or let it be computed again."""
    return _one(records, clock, person, number, ExpectedState(), DecisionOrder(level=order.level, weighs=True))


@router.post("/issues/{number}/hand-over", summary="Hand an issue over", responses=_CHANGES)
def hand_over(records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: HandOver) -> DecidedAnswer:
    """Give an issue to a person who may decide about it, take it, or give it to nobody; set what it waits for."""
    return _one(records, clock, person, number, ExpectedState(holder=order.seen), _handed(order))


@router.post("/decisions", summary="Decide about several issues", responses=described("bad-field"))
def decide(records: TheRecords, clock: TheClock, person: SignedIn, order: ManyOrder) -> DecidedAnswer:
    """Make one decision about several issues, which can be undone as a whole. An issue that has changed meanwhile,
    or does not exist, is left as it is; the others are changed.
    """
    numbers = [expected.number for expected in order.issues]
    if len(set(numbers)) != len(numbers):
        raise Problem("bad-field", "Each issue can be named once.", field="issues")
    if sum(part is not None for part in (order.accept, order.park, order.settle, order.hand_over, order.priority)) != 1:
        raise Problem("bad-field", "Say one of accept, park, settle, hand_over and priority.", field="accept")
    decisions: list[tuple[int, ExpectedState, DecisionOrder]] = []
    left_alone: list[tuple[int, Problem]] = []
    orders = _Orders(records, clock)
    for expected in order.issues:
        seen = _seen(expected.state, expected.since, expected.holder)
        try:
            decisions.append((expected.number, seen, orders.of_many(expected.number, order)))
        except StoreError as error:
            left_alone.append((expected.number, as_problem(error)))
        except Problem as problem:
            if problem.slug != "no-release":
                raise
            left_alone.append((expected.number, problem))
    decided = records.writer.run(lambda c: deciding.decide(c, decisions, (person.id, person.name), clock.now_ms()))
    return _answer(decided, left_alone)


@router.post("/decisions/latest/undo", summary="Take my latest decision back", responses=_CHANGES)
def take_latest_back(records: TheRecords, clock: TheClock, person: SignedIn) -> DecidedAnswer:
    """Undo the asker's latest decision of the last seven days."""
    number = deciding.latest_of(records.reader, person.id, clock.now_ms())
    if number is None:
        raise Problem("not-found", "You have decided nothing within the last seven days that could be taken back.")
    return _taken_back(records, clock, person, number)


@router.post("/decisions/{number}/undo", summary="Take a decision back", responses=_CHANGES)
def take_back(records: TheRecords, clock: TheClock, person: SignedIn, number: DecisionNumber) -> DecidedAnswer:
    """Undo a decision. An issue that was changed since is left as it is, and named."""
    return _taken_back(records, clock, person, number)


def _taken_back(records: Records, clock: Clock, person: Person, number: int) -> DecidedAnswer:
    issues = deciding.issues_of(records.reader, number)
    if not issues:
        raise NotThere(f"there is no decision {number} that can be taken back: it was already, or it is too old")
    sentence, decided = records.writer.run(
        lambda c: deciding.take_back(c, number, issues, (person.id, person.name), clock.now_ms())
    )
    answer = _answer(decided, [])
    answer.said = deciding.many_said(sentence, len(decided.done))
    return answer


class _Orders:
    """Translates requests to decisions of the store, issue by issue. Issues that the person does not see do not
    exist for them. Raises NotThere and problems.
    """

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock
        self._newest: dict[int, str | None] = {}
        """Cache of the newest release of each app."""

    def of_many(self, number: int, order: ManyOrder) -> DecisionOrder:
        if order.park is not None:
            return self.parked(number, order.park)
        if order.settle is not None:
            return self.settled(number, order.settle)
        store.issue(self._records.reader, number)
        if order.hand_over is not None:
            return _handed(order.hand_over)
        if order.priority is not None:
            return DecisionOrder(level=order.priority.level, weighs=True)
        return DecisionOrder("accept")

    def parked(self, number: int, order: ParkOrder) -> DecisionOrder:
        row = store.issue(self._records.reader, number)
        another = as_another(order.another)
        until = Until(self._time_ms(order.until), order.failures, order.an_hour, order.people, another)
        return DecisionOrder("park", until=until, newest=self._newest_of(row.app_id))

    def settled(self, number: int, order: SettleOrder) -> DecisionOrder:
        row = store.issue(self._records.reader, number)
        newest = self._newest_of(row.app_id)
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
        after = newest if order.how == "coming" else None
        return DecisionOrder(
            "settle", Settling(order.how, self._clock.now_ms(), release, after, order.environment or "")
        )

    def _newest_of(self, app_id: int) -> str | None:
        if app_id not in self._newest:
            self._newest[app_id] = release_store.newest(self._records.reader, app_id)
        return self._newest[app_id]

    def _time_ms(self, until: datetime | None) -> int | None:
        if until is None:
            return None
        time_ms = to_ms(until)
        if not self._clock.now_ms() < time_ms < LAST_MS:
            raise Problem(
                "bad-field", "The time until which it is parked must be in the future, and before 2100.", field="until"
            )
        return time_ms


def _handed(order: HandTo) -> DecisionOrder:
    return DecisionOrder(to=order.to or "", waits_for=None if order.waits_for is None else order.waits_for.strip())


def _seen(state: answers.StateName | None, since: str | None, holder: str | None = None) -> ExpectedState:
    since_ms = shown_ms(since)
    if since is not None and since_ms is None:
        raise Problem("bad-field", "Give `state_since` as it was read.", field="since")
    return ExpectedState(state, since_ms, holder)


def _one(
    records: Records, clock: Clock, person: Person, number: int, seen: ExpectedState, order: DecisionOrder
) -> DecidedAnswer:
    """Decide about one issue; raises where that is not possible."""
    now_ms = order.settling.time_ms if order.settling is not None else clock.now_ms()
    decided = records.writer.run(
        lambda c: deciding.decide(c, [(number, seen, order)], (person.id, person.name), now_ms)
    )
    for _, error in decided.left:
        raise error
    return _answer(decided, [])


def _answer(decided: Decided, left: list[tuple[int, Problem]]) -> DecidedAnswer:
    every = [*left, *((number, as_problem(error)) for number, error in decided.left)]
    return DecidedAnswer(
        decision=decided.number,
        done=decided.done,
        left=[
            LeftIssue(number=number, slug=problem.slug, why=problem.detail, there=problem.extension.get("there"))
            for number, problem in sorted(every, key=lambda one: one[0])
        ],
    )
