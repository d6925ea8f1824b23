"""``/api/now``: what is happening, for any window, compared with the period before it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Final

from fastapi import Depends
from pydantic import BaseModel, Field

from obitus.core.asking.summaries import width_ms
from obitus.core.clock import to_text
from obitus.core.headline import Headline
from obitus.service.api.answers import SpanAnswer, StateName, Time
from obitus.service.api.asked import TheWindow
from obitus.service.api.calls import CalledNow, called_now
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import now as store
from obitus.store import releases
from obitus.store.now import Point, SlotCounts, Slots
from obitus.store.rows.issues import IssueNow

MOST_SHOWN: Final = 12

router = Router(
    prefix="/api",
    tags=["now"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)


class OverTimeAnswer(BaseModel):
    """A number of the window and of the period before it, each in all and by slice."""

    now: int
    before: int
    over_time: list[int]
    over_time_before: list[int]


class PointAnswer(BaseModel):
    """An entry point."""

    app: str
    entry_point: str
    runs: int
    failed: int
    refused: int
    runs_before: int
    failed_before: int
    median_below_ms: float | None = Field(
        description="Half of its runs took less; null where nothing is known, or beyond all buckets."
    )
    p95_below_ms: float | None = Field(description="95% of its runs took less, as its sender's buckets tell.")
    p95_below_ms_before: float | None


class TypeAnswer(BaseModel):
    """A type of exception."""

    type: str
    failures: int
    before: int
    issues: list[int] = Field(description="The issues of that type, the one with most failures first.")


class RunsByStatus(BaseModel):
    """An answer code."""

    status: int
    runs: int
    before: int


class IssueNowAnswer(BaseModel):
    """An issue that is new, or regressed, in the window."""

    issue: int
    title: str
    app: str
    state: StateName
    entry_point: str
    failures: int
    first_seen: Time


class LoggerAnswer(BaseModel):
    """A logger with warnings."""

    logger: str
    records: int


class DeployNow(BaseModel):
    """A deploy inside the window."""

    time: Time
    app: str
    release: str
    environment: str


class NowAnswer(BaseModel):
    """What is happening."""

    window: SpanAnswer = Field(description="The window in whole slots of five minutes, or of an hour when it is long.")
    before: SpanAnswer = Field(description="As long, just before.")
    slice_ms: int
    slices: list[Time]
    unfinished: int = Field(description="So many of the last slices are not over yet.")
    failures: OverTimeAnswer
    runs: OverTimeAnswer
    failed: OverTimeAnswer = Field(description="Runs that failed.")
    points: list[PointAnswer] = Field(description="Entry points, those with most failed runs first.")
    points_in_all: int
    types: list[TypeAnswer]
    statuses: list[RunsByStatus]
    new: list[IssueNowAnswer]
    regressed: list[IssueNowAnswer]
    called: list[CalledNow] = Field(
        description="Hosts, databases and queues: those that fail most first, then the slowest."
    )
    called_in_all: int
    loggers: list[LoggerAnswer] = Field(description="Loggers by records of WARN and worse.")
    deploys: list[DeployNow]


@router.get("/now", summary="What is happening now", responses=described("bad-window"))
def now(records: TheRecords, clock: TheClock, window: TheWindow) -> NowAnswer:
    """Return failures, runs, entry points, types, answer codes, new and regressed issues, compared with the period before."""
    now_ms = clock.now_ms()
    slots = store.slots_of(window, now_ms)
    counts, earlier = (store.seen(records.reader, of_slots, window) for of_slots in (slots, slots.before()))
    slices = _Slices(slots)
    from_ms, to_ms = slots.window
    before_ms, _ = slots.before().window
    issues = store.issues_named(records.reader, [*(counts.by_issue.keys() | earlier.by_issue.keys())], window.app)
    regressed = store.regressed_in(records.reader, from_ms, to_ms)
    called = called_now(records.reader, slots, window)
    loggers = store.warning_loggers(records.reader, slots, window, MOST_SHOWN)
    deploys = releases.deploys(records.reader, from_ms, to_ms, window.app, window.environment, limit=100)

    def over_time(of_now: Mapping[int, int], of_before: Mapping[int, int]) -> OverTimeAnswer:
        return OverTimeAnswer(
            now=sum(of_now.values()),
            before=sum(of_before.values()),
            over_time=slices.sums(of_now, slots),
            over_time_before=slices.sums(of_before, slots.before()),
        )

    return NowAnswer(
        window=SpanAnswer(start=to_text(from_ms), end=to_text(to_ms)),
        before=SpanAnswer(start=to_text(before_ms), end=to_text(from_ms)),
        slice_ms=slices.width * slots.slot_ms,
        slices=[to_text(at) for at in slices.starts()],
        unfinished=sum(1 for at in slices.starts() if at + slices.width * slots.slot_ms > now_ms),
        failures=over_time(counts.failures_by_slot, earlier.failures_by_slot),
        runs=over_time(counts.runs_by_slot, earlier.runs_by_slot),
        failed=over_time(counts.failed_by_slot, earlier.failed_by_slot),
        points=_points(counts, earlier),
        points_in_all=len(counts.points),
        types=_types(issues, counts, earlier),
        statuses=[
            RunsByStatus(status=status, runs=counts.statuses[status], before=earlier.statuses[status])
            for status in sorted(counts.statuses.keys() | earlier.statuses.keys())
        ],
        new=_issues(issues, counts, {issue for issue, row in issues.items() if from_ms <= row.first_ms < to_ms}),
        regressed=_issues(issues, counts, regressed),
        called=called[:MOST_SHOWN],
        called_in_all=len(called),
        loggers=[LoggerAnswer(logger=logger.name, records=logger.n) for logger in loggers],
        deploys=[
            DeployNow(time=to_text(row.time_ms), app=row.app, release=row.version, environment=row.environment)
            for row in deploys
        ],
    )


class _Slices:
    """Slots combined into slices, few enough to be drawn."""

    def __init__(self, slots: Slots) -> None:
        self._slots = slots
        from_ms, to_ms = slots.window
        self.width = max(1, width_ms(from_ms, to_ms) // slots.slot_ms)

    def starts(self) -> list[int]:
        """Return when each slice begins."""
        return [at * self._slots.slot_ms for at in range(self._slots.first, self._slots.end, self.width)]

    def sums(self, by_slot: Mapping[int, int], slots: Slots) -> list[int]:
        """Return the sums for each slice of some slots."""
        return [
            sum(by_slot.get(at, 0) for at in range(start, min(start + self.width, slots.end)))
            for start in range(slots.first, slots.end, self.width)
        ]


def _points(seen: SlotCounts, earlier: SlotCounts) -> list[PointAnswer]:
    ordered = sorted(seen.points.values(), key=lambda point: (-point.failed, -point.runs, point.entry_point))
    points = []
    for point in ordered[: 5 * MOST_SHOWN]:
        before = earlier.points.get((point.app, point.entry_point)) or Point(point.app, point.entry_point)
        points.append(
            PointAnswer(
                app=point.app,
                entry_point=point.entry_point,
                runs=point.runs,
                failed=point.failed,
                refused=point.refused,
                runs_before=before.runs,
                failed_before=before.failed,
                median_below_ms=point.below_ms(0.5),
                p95_below_ms=point.below_ms(0.95),
                p95_below_ms_before=before.below_ms(0.95),
            )
        )
    return points


def _types(issues: Mapping[int, IssueNow], seen: SlotCounts, earlier: SlotCounts) -> list[TypeAnswer]:
    failures: Counter[str] = Counter()
    before: Counter[str] = Counter()
    of_type: dict[str, list[int]] = {}
    for number, row in issues.items():
        failures[row.type] += seen.by_issue.get(number, 0)
        before[row.type] += earlier.by_issue.get(number, 0)
        if seen.by_issue.get(number):
            of_type.setdefault(row.type, []).append(number)
    return [
        TypeAnswer(
            type=name,
            failures=n,
            before=before[name],
            issues=sorted(of_type[name], key=lambda number: -seen.by_issue[number])[:MOST_SHOWN],
        )
        for name, n in failures.most_common(MOST_SHOWN)
        if n
    ]


def _issues(issues: Mapping[int, IssueNow], seen: SlotCounts, wanted: set[int]) -> list[IssueNowAnswer]:
    rows = [issues[number] for number in wanted if number in issues]
    rows.sort(key=lambda row: (-seen.by_issue.get(row.id, 0), row.id))
    return [
        IssueNowAnswer(
            issue=row.id,
            title=Headline(row.type, row.cause, row.place).title,
            app=row.app,
            state=row.state,
            entry_point=row.entry_point,
            failures=seen.by_issue.get(row.id, 0),
            first_seen=to_text(row.first_ms),
        )
        for row in rows[: store.MOST_NEW]
    ]
