"""``/api/calls``: who calls whom, how often that fails, how long it takes, and what entry points spend their time with."""

from __future__ import annotations

from typing import Final, Literal

from fastapi import Depends
from pydantic import BaseModel, Field

from obitus.core.clock import to_text
from obitus.service.api.answers import SpanAnswer
from obitus.service.api.asked import TheWindow
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import calls as store
from obitus.store.calls import Called, CallGraph, Linked, Spent
from obitus.store.database import Reader
from obitus.store.now import Slots, slots_of
from obitus.store.windows import Window

MOST_LINES: Final = 300
MOST_POINTS: Final = 200
KindName = Literal["http", "database", "queue", "app"]

router = Router(
    prefix="/api",
    tags=["now"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)


class CallLine(BaseModel):
    """Calls of an app to a host, a database, a queue, or another app."""

    app: str
    kind: KindName = Field(description="`app` where only the trace says who called.")
    target: str = Field(description="A host, a database, a queue, or an app; `…` for those that are not kept apart.")
    to_app: str | None = Field(description="The app that answers there, where it is one that reports.")
    calls: int
    failed: int
    median_below_ms: float | None = Field(description="Half of the calls took less; null where nothing is known.")
    p95_below_ms: float | None


class CalledNow(CallLine):
    """The same, compared with the period before."""

    calls_before: int
    failed_before: int
    p95_below_ms_before: float | None


class TimeWith(BaseModel):
    """A share of time."""

    kind: KindName
    target: str
    share: float = Field(description="Of all time of its runs, 0 to 1; above 1 where calls went on side by side.")


class PointTime(BaseModel):
    """The time of an entry point's runs, by called side."""

    app: str
    entry_point: str
    runs: int
    mean_ms: float
    spent_with: list[TimeWith] = Field(description="The greatest share first.")


class CalledApp(BaseModel):
    """An app that calls or is called."""

    app: str
    runs: int


class CallsAnswer(BaseModel):
    """Who calls whom."""

    window: SpanAnswer
    apps: list[CalledApp]
    lines: list[CallLine] = Field(description="Those with most calls first.")
    lines_in_all: int
    points: list[PointTime] = Field(description="Those whose runs took longest in all first.")
    runs: int = Field(description="Runs of the window.")
    whole: int = Field(description="Of these, so many were sent whole: each represents those with the same outcome.")


@router.get("/calls", summary="Who calls whom", responses=described("bad-window"))
def calls(records: TheRecords, clock: TheClock, window: TheWindow) -> CallsAnswer:
    """Return apps, their hosts, databases and queues, and who calls whom, from the steps of runs and from traces."""
    slots = slots_of(window, clock.now_ms())
    graph = store.calls(records.reader, slots, window)
    lines = lines_of(graph)
    runs: dict[str, int] = {}
    for point in graph.spent.values():
        runs[point.app] = runs.get(point.app, 0) + point.runs
    for line in lines:
        for name in (line.app, line.to_app):
            if name is not None:
                runs.setdefault(name, 0)
    from_ms, to_ms = slots.window
    points = sorted((one for one in graph.spent.values() if one.took_ms), key=lambda one: -one.took_ms)
    return CallsAnswer(
        window=SpanAnswer(start=to_text(from_ms), end=to_text(to_ms)),
        apps=[CalledApp(app=name, runs=n) for name, n in sorted(runs.items())],
        lines=lines[:MOST_LINES],
        lines_in_all=len(lines),
        points=[_point(one) for one in points[:MOST_POINTS]],
        runs=graph.runs,
        whole=graph.whole,
    )


def lines_of(graph: CallGraph) -> list[CallLine]:
    """Return who called whom, those with most calls first."""
    lines = [_line(call) for call in graph.called.values()]
    known = {(line.app, line.to_app) for line in lines}
    # A step says more about a call than its trace.
    lines += [_linked(call) for pair, call in graph.linked.items() if pair not in known]
    return sorted(lines, key=lambda line: (-line.calls, line.app, line.target))


def called_now(reader: Reader, slots: Slots, window: Window) -> list[CalledNow]:
    """Return the called sides in slots compared with the period before: the most failures first, then the slowest."""
    earlier = {
        (line.app, line.kind, line.target): line for line in lines_of(store.calls(reader, slots.before(), window))
    }
    calls = []
    for line in lines_of(store.calls(reader, slots, window)):
        before = earlier.get((line.app, line.kind, line.target))
        calls.append(
            CalledNow(
                **line.model_dump(),
                calls_before=before.calls if before else 0,
                failed_before=before.failed if before else 0,
                p95_below_ms_before=before.p95_below_ms if before else None,
            )
        )
    return sorted(calls, key=lambda line: (-line.failed, -(line.p95_below_ms or 0), -line.calls, line.target))


def _line(called: Called) -> CallLine:
    return CallLine(
        app=called.app,
        kind=called.kind,
        target=called.target,
        to_app=called.to_app,
        calls=round(called.calls),
        failed=round(called.failed),
        median_below_ms=called.below_ms(0.5),
        p95_below_ms=called.below_ms(0.95),
    )


def _linked(linked: Linked) -> CallLine:
    return CallLine(
        app=linked.caller,
        kind="app",
        target=linked.app,
        to_app=linked.app,
        calls=linked.runs,
        failed=linked.failed,
        median_below_ms=linked.below_ms(0.5),
        p95_below_ms=linked.below_ms(0.95),
    )


def _point(spent: Spent) -> PointTime:
    shares = sorted(spent.with_ms.items(), key=lambda item: -item[1])
    return PointTime(
        app=spent.app,
        entry_point=spent.entry_point,
        runs=spent.runs,
        mean_ms=round(spent.took_ms / max(1, spent.known), 3),
        spent_with=[
            TimeWith(kind=kind, target=target, share=round(ms / spent.took_ms, 4)) for (kind, target), ms in shares
        ],
    )
