"""``/api/tracepoints``: the state at a line of running apps the next time that it runs."""

from __future__ import annotations

import json
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Path, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.bounds import MEDIUM, VALUES_OF_A_HIT
from obitus.core.clock import MINUTE_MS, to_text
from obitus.core.tracepoints import OrderTrouble, read_condition, read_message, read_value
from obitus.core.tracepoints import orders as bounds
from obitus.core.tracepoints.reading import MOST_CHARACTERS, ExpressionTrouble
from obitus.service.api.answers import Done, Time
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.service.tracepoints import Instance, TheTracepoints
from obitus.store import apps
from obitus.store import tracepoints as store
from obitus.store.errors import NotThere
from obitus.store.records import Records
from obitus.store.rows.tracepoints import InstanceState, StateSums, Tracepoint

router = Router(
    tags=["tracepoints"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "not-found", "store-broken"
    ),
)

Number = Annotated[int, Path(ge=1, le=2**53, description="The tracepoint's number.")]
AppName = Annotated[str, Path(max_length=100, description="The app.")]
Expression = Annotated[str, Field(max_length=MOST_CHARACTERS + 70)]
Name = Annotated[str, Field(min_length=1, max_length=200)]
Collected = Literal["locals", "stack", "trail", "attributes"]
LONGEST_MINUTES: Final = int(bounds.LONGEST_S / 60)


class TracepointAsked(BaseModel):
    """A tracepoint to set."""

    model_config = ConfigDict(extra="forbid", strict=True)

    file: Annotated[str, Field(min_length=1, max_length=MEDIUM)] = Field(
        description="Path of the source file, or its end: `sailings/fares.py`."
    )
    line: Annotated[int, Field(ge=1, le=10_000_000)]
    minutes: Annotated[float, Field(gt=0, le=LONGEST_MINUTES)] = Field(description="How long it stays set. Required.")
    condition: Expression = Field(
        default="", description="When it counts, such as `passengers > 4`: see docs/tracepoints.md."
    )
    values: Annotated[list[Expression], Field(max_length=VALUES_OF_A_HIT)] = Field(
        default=[], description="Expressions to evaluate, as `expression` or `name: expression`."
    )
    message: Annotated[str, Field(max_length=1_000)] = Field(
        default="", description="The text of its log record, values in braces: `fare {base} for {passengers}`."
    )
    collect: list[Collected] = Field(default=["locals", "stack", "attributes"], description="What comes with each hit.")
    depth: Annotated[int, Field(ge=1, le=bounds.MOST_DEPTH)] = Field(
        default=bounds.USUAL_DEPTH, description="How deep values inside values are shown."
    )
    size: Annotated[int, Field(ge=bounds.LEAST_SIZE, le=bounds.MOST_SIZE)] = Field(
        default=bounds.USUAL_SIZE, description="Most characters of each value."
    )
    hits: Annotated[int, Field(ge=1, le=bounds.MOST_HITS)] = Field(
        default=bounds.USUAL_HITS, description="It ends after so many, of all instances together."
    )
    per_second: Annotated[float, Field(ge=0.01, le=bounds.MOST_A_SECOND)] = Field(
        default=bounds.USUAL_A_SECOND, description="Most hits a second in each process."
    )
    environment: Annotated[str, Field(max_length=100)] = Field(default="", description="'' for all environments.")
    release: Annotated[str, Field(max_length=300)] = Field(default="", description="Only this one; '' for any.")
    hosts: Annotated[list[Name], Field(max_length=bounds.MOST_FILTERS)] = Field(
        default=[], description="Only these hosts, `*` for any characters; none for all."
    )
    instances: Annotated[list[Name], Field(max_length=bounds.MOST_FILTERS)] = Field(
        default=[], description="Process numbers, or beginnings of instance ids; none for all."
    )
    hash: Annotated[str, Field(pattern="^([0-9a-f]{64})?$")] = Field(
        default="",
        description="SHA-256 of the file that the line was seen in, with \\n at line ends: another file is refused.",
    )
    code_hash: Annotated[str, Field(pattern="^([0-9a-f]{64})?$")] = Field(
        default="",
        description="SHA-256 of the requested line of code, without blanks around it: a process with another line there refuses.",
    )
    issue: Annotated[int, Field(ge=1, le=2**53)] | None = Field(default=None, description="The issue that it is for.")


class TracepointAnswer(BaseModel):
    """A tracepoint."""

    id: int
    app: str
    file: str
    line: int
    condition: str
    values: list[str]
    message: str
    collect: list[str]
    depth: int
    size: int
    most_hits: int
    per_second: float
    environment: str = Field(description="'' for all environments.")
    release: str = Field(description="'' for any.")
    hosts: list[str]
    instances: list[str]
    checked: bool = Field(description="Whether it was set with the source at hand: another one is refused.")
    issue: int | None
    person: str
    made: Time
    until: Time
    active: bool = Field(description="Whether it is not over.")
    over: str = Field(description="Why it is over; '' while it is set.")
    hits: int
    latest: Time | None = Field(description="When the latest hit happened.")
    set_in: int = Field(description="Instances in which it is set.")
    waits_in: int = Field(description="Instances that have not loaded its code yet.")
    not_set_in: int = Field(description="Instances that could not set it.")
    looked: int = Field(description="How often the line ran, in all instances.")
    cost_ms: float = Field(description="Time that it took, in all instances.")


class TracepointState(BaseModel):
    """The state of a tracepoint in one instance."""

    instance: str
    host: str
    pid: int
    release: str
    environment: str
    runtime: str
    state: str = Field(description="`set`, `waits`, `not set` or `over`.")
    why: str
    trouble: str = Field(description="Why its condition could not be evaluated, the last time that it could not.")
    file: str
    offers: list[int] = Field(description="Lines near it that can have a tracepoint.")
    looked: int
    hits: int
    left_out: int = Field(description="Hits that were too many in a second.")
    cost_ms: float
    said: Time


class InstanceAnswer(BaseModel):
    """A running process that allows tracepoints."""

    app: str
    instance: str
    host: str
    pid: int
    release: str
    environment: str
    runtime: str
    client: str
    last_request: Time


class TracepointsAnswer(BaseModel):
    """The newest tracepoints, and the instances in which one could be set."""

    tracepoints: list[TracepointAnswer]
    instances: list[InstanceAnswer]


class OneTracepointAnswer(BaseModel):
    """A tracepoint with its states in all instances."""

    tracepoint: TracepointAnswer
    states: list[TracepointState]


@router.get("/api/tracepoints", summary="Tracepoints, and the instances that allow them")
def listed(
    records: TheRecords,
    clock: TheClock,
    tracepoints: TheTracepoints,
    app: Annotated[str, Query(max_length=100, description="The app; '' for all.")] = "",
) -> TracepointsAnswer:
    """Return the newest tracepoints with their states, and the running instances that allow them."""
    found = store.listed(records.reader, app)
    names = {app.id: app.name for app in apps.apps(records.reader)}
    running = [
        instance
        for instance in tracepoints.instances()
        if instance.app_id in names and app in ("", names[instance.app_id])
    ]
    return TracepointsAnswer(
        tracepoints=_answers(records, found, clock.now_ms()),
        instances=[_instance(instance, names[instance.app_id]) for instance in running],
    )


@router.get("/api/tracepoints/{number}", summary="One tracepoint, and what became of it in each instance")
def one(records: TheRecords, clock: TheClock, number: Number) -> OneTracepointAnswer:
    """Return a tracepoint, in how many instances it is set, and where it could not be set and why. Its hits are log records: `tracepoint.id=7`."""
    found = store.one(records.reader, number)
    (answer,) = _answers(records, [found], clock.now_ms())
    return OneTracepointAnswer(tracepoint=answer, states=[_state(one) for one in store.states(records.reader, number)])


@router.post(
    "/api/apps/{name}/tracepoints", summary="Set a tracepoint", status_code=201, responses=described("too-many")
)
def add(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    tracepoints: TheTracepoints,
    person: SignedIn,
    name: AppName,
    order: TracepointAsked,
) -> OneTracepointAnswer:
    """Set a tracepoint in the running instances of an app; those that allow it get it within a second. An invalid
    condition or value is refused here, before it reaches any app.
    """
    _check(order)
    app_id = apps.app_named(records.reader, name).id
    now_ms = clock.now_ms()
    values: dict[str, Any] = {
        "app_id": app_id,
        "issue_id": order.issue,
        "environment": order.environment,
        "release": order.release,
        "file": order.file.replace("\\", "/"),
        "line": order.line,
        "asked": json.dumps(
            order.model_dump(
                include={
                    "condition", "values", "message", "collect", "depth", "size", "per_second", "hosts", "instances",
                }
            ),
            ensure_ascii=False,
        ),
        "hash": order.hash,
        "code_hash": order.code_hash,
        "most_hits": order.hits,
        "person_id": person.id,
        "now_ms": now_ms,
        "until_ms": now_ms + int(order.minutes * MINUTE_MS),
    }  # fmt: skip
    number = acts.do(
        person.id,
        "set tracepoint",
        lambda number: (
            f"{number}: {name} {order.file}:{order.line}"
            + (f" when {order.condition}" if order.condition else "")
            + f", {order.minutes:g} min"
        ),
        lambda c: store.add(c, values),
    )
    tracepoints.load()
    return one(records, clock, number)


@router.delete("/api/apps/{name}/tracepoints/{number}", summary="End a tracepoint before its time")
def end(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    tracepoints: TheTracepoints,
    person: SignedIn,
    name: AppName,
    number: Number,
) -> Done:
    """End a tracepoint; all instances remove it within a second."""
    tracepoint = store.one(records.reader, number)
    if tracepoint.app != name:
        raise NotThere(f"there is no tracepoint {number} in {name}")
    acts.do(
        person.id,
        "ended tracepoint",
        f"{number}: {name} {tracepoint.file}:{tracepoint.line}",
        lambda c: store.end(c, number, f"{person.name} ended it", clock.now_ms()),
    )
    tracepoints.load()
    return Done()


def _check(asked: TracepointAsked) -> None:
    try:
        read_condition(asked.condition)
    except OrderTrouble as trouble:
        raise Problem("bad-field", f"condition: {trouble}", field="condition") from None
    for value in asked.values:
        try:
            read_value(value)
        except OrderTrouble as trouble:
            raise Problem("bad-field", f"values: {trouble}", field="values") from None
    try:
        read_message(asked.message)
    except ExpressionTrouble as trouble:
        raise Problem("bad-field", f"message: {trouble}", field="message", position=trouble.position) from None


def _answers(records: Records, tracepoints: list[Tracepoint], now_ms: int) -> list[TracepointAnswer]:
    sums = store.sums(records.reader, (tracepoint.id for tracepoint in tracepoints))
    return [
        _answer(tracepoint, sums.get(tracepoint.id) or StateSums(tracepoint.id), now_ms) for tracepoint in tracepoints
    ]


def _answer(tracepoint: Tracepoint, sums: StateSums, now_ms: int) -> TracepointAnswer:
    order = json.loads(tracepoint.asked)
    active = tracepoint.ended_ms is None and tracepoint.until_ms > now_ms
    return TracepointAnswer(
        id=tracepoint.id,
        app=tracepoint.app,
        file=tracepoint.file,
        line=tracepoint.line,
        condition=order["condition"],
        values=order["values"],
        message=order["message"],
        collect=order["collect"],
        depth=order["depth"],
        size=order["size"],
        most_hits=tracepoint.most_hits,
        per_second=order["per_second"],
        environment=tracepoint.environment,
        release=tracepoint.release,
        hosts=order["hosts"],
        instances=order["instances"],
        checked=bool(tracepoint.hash or tracepoint.code_hash),
        issue=tracepoint.issue_id,
        person=tracepoint.person,
        made=to_text(tracepoint.made_ms),
        until=to_text(tracepoint.until_ms),
        active=active,
        over="" if active else tracepoint.ended_why or "its time is over",
        hits=tracepoint.hits,
        latest=to_text(tracepoint.latest_ms) if tracepoint.latest_ms else None,
        set_in=sums.is_set if active else 0,
        waits_in=sums.waits if active else 0,
        not_set_in=sums.not_set if active else 0,
        looked=sums.looked,
        cost_ms=round(sums.cost_ms, 3),
    )


def _state(state: InstanceState) -> TracepointState:
    return TracepointState(
        **{
            name: getattr(state, name)
            for name in (
                "instance",
                "host",
                "pid",
                "release",
                "environment",
                "runtime",
                "state",
                "looked",
                "hits",
                "left_out",
                "cost_ms",
            )
        },
        **json.loads(state.said),
        said=to_text(state.said_ms),
    )


def _instance(instance: Instance, app: str) -> InstanceAnswer:
    return InstanceAnswer(
        app=app,
        instance=instance.instance,
        host=instance.host,
        pid=instance.pid,
        release=instance.release,
        environment=instance.environment,
        runtime=instance.runtime,
        client=instance.client,
        last_request=to_text(instance.last_request_ms),
    )
