"""``/api/failures/{id}/turning`` and ``/api/in-common``: failing runs compared with healthy ones of the same entry points."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Sequence
from typing import Annotated, Any, Final, Literal

from fastapi import Depends, Query
from pydantic import BaseModel, Field

from obitus.core.against.contrast import Contrast, Run, contrast
from obitus.core.against.steps import Step, steps_of
from obitus.core.against.turning import Turning, nearest_of, side_by_side, turning_point
from obitus.core.asking import All, AnyOf, Compare, Node
from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.service.api.asked import Question, TheWindow, understood
from obitus.service.api.records import asked_for
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import calls, issues
from obitus.store.asking import find
from obitus.store.asking.finding import MOST_LOOKED_AT
from obitus.store.asking.records import Record, records_of
from obitus.store.now import slots_of
from obitus.store.records import Records
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["timeline"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

MOST_TURNED: Final = 60
MOST_FAILING: Final = 400
MOST_HEALTHY: Final = 800
MOST_POINTS: Final = 8
HEALTHY_BEFORE_MS: Final = 14 * DAY_MS
HOUR: Final = "hour of the day, UTC"


class StepSide(BaseModel):
    """A step of one of two compared runs."""

    said: str
    outcome: str
    ms: float | None


class SideBySide(BaseModel):
    """One line of both runs: null where only the other has the step."""

    here: StepSide | None
    healthy: StepSide | None
    differs: bool


class DifferenceAnswer(BaseModel):
    """A difference of the failing run from healthy ones."""

    kind: Literal["missing", "added", "otherwise", "slower"]
    step: int = Field(description="The step of the run that it is, from 0, or before which something is missing.")
    alike: int = Field(description="So many healthy runs show the same.")
    of: int
    said: str


class TurningAnswer(BaseModel):
    """Where a failing run differs from healthy runs."""

    said: str
    found: bool
    differences: list[DifferenceAnswer] = Field(
        description="All that are as strong, in their order; the first is the turning point."
    )
    healthy: int = Field(description="Healthy runs that it was compared with.")
    nearest: str | None = Field(description="The id of the healthy run that is nearest.")
    side_by_side: list[SideBySide]


class CommonAnswer(BaseModel):
    """Something that failing runs have more often than healthy ones."""

    name: str = Field(description="A field, or `step`.")
    value: str
    failing: int
    failing_share: float
    healthy_share: float
    chance: float = Field(description="How probable so much more is by chance.")
    with_it: list[str] = Field(description="What nearly the same runs have, too.")


class InCommonAnswer(BaseModel):
    """What failing runs have in common."""

    said: str
    failing: int
    healthy: int
    found: list[CommonAnswer] = Field(
        description="The strongest first; of all that is named one in twenty may be chance."
    )


@router.get(
    "/failures/{id}/turning",
    summary="Where a failing run first differs from healthy runs",
    responses=described("not-found"),
)
def turning(records: TheRecords, id: uuid.UUID) -> TurningAnswer:
    """Compare the steps of a failing run with healthy runs of its entry point; return the first step that differs."""
    failure = issues.failure_with_id(records.reader, id.bytes)
    content = records.evidence.content(failure.seq)
    if content is None:
        raise Problem("not-found", "Its evidence is no longer kept, so nothing is known of its steps.")
    run = content.get("run") or {}
    trail = content.get("trail") or []
    whole = _run_with(records, str(run.get("id") or ""), failure.time_ms)
    if whole is not None:
        trail = whole.get("trail") or trail
    failing = steps_of(trail)
    node = _of_point(failure.app, [failure.entry_point], "ok") if failure.entry_point else None
    healthy: list[list[Step]] = []
    ids: list[str] = []
    if node is not None:
        rows = _rows(records, node, failure.time_ms - HEALTHY_BEFORE_MS, failure.time_ms + DAY_MS, MOST_TURNED)
        for _, other in _whole(records, rows):
            steps = steps_of(other.get("trail") or [])
            if steps:
                healthy.append(steps)
                ids.append(str((other.get("run") or {}).get("id") or ""))
    return _turning(turning_point(failing, healthy), failing, healthy, ids)


@router.get(
    "/in-common",
    summary="What failing runs have in common",
    responses=described("bad-window", "bad-question", "not-found"),
)
def in_common(
    records: TheRecords,
    clock: TheClock,
    window: TheWindow,
    issue: Annotated[int | None, Query(ge=1, le=2**62, description="The failing runs of this issue.")] = None,
    question: Question = None,
) -> InCommonAnswer:
    """Compare the failing runs of an issue, or those of a question, with healthy runs of the same entry points."""
    node = asked_for(window, understood(question, clock))
    only: set[str] | None = None
    if issue is not None:
        issue_row = issues.issue(records.reader, issue)
        only = _runs_of_issue(records, issue, window)
        node = Compare("app", "=", issue_row.app) if node is None else All((Compare("app", "=", issue_row.app), node))
    failed = Compare("outcome", "=", "failed")
    asked: Node = failed if node is None else All((node, failed))
    failing = [
        row
        for row in _rows(records, asked, window.from_ms, window.to_ms, MOST_LOOKED_AT)
        if only is None or str(row.values.get("run") or "") in only
    ][:MOST_FAILING]
    points: dict[tuple[str, str], int] = {}
    for row in failing:
        point = (str(row.values.get("app") or ""), str(row.values.get("entry_point") or ""))
        points[point] = points.get(point, 0) + 1
    commonest = sorted(points, key=lambda point: -points[point])[:MOST_POINTS]
    failing = [row for row in failing if (row.values.get("app"), row.values.get("entry_point")) in commonest]
    stands_for = _stands_for(records, clock.now_ms(), window)
    healthy: list[Run] = []
    for app, entry_point in commonest:
        each = MOST_HEALTHY // len(commonest)
        rows = _rows(records, _of_point(app, [entry_point], "ok"), window.from_ms, window.to_ms, each)
        weight = stands_for.get((app, entry_point), 1.0)
        healthy += [_run(row, content, weight) for row, content in _whole(records, rows)]
    return _in_common(contrast([_run(row, content, 1.0) for row, content in _whole(records, failing)], healthy))


def _of_point(app: str, entry_points: list[str], outcome: str) -> Node:
    points: list[Node] = [Compare("entry_point", "=", one) for one in entry_points]
    return All(
        (
            Compare("app", "=", app),
            AnyOf(tuple(points)) if len(points) > 1 else points[0],
            Compare("outcome", "=", outcome),
        )
    )


def _rows(records: Records, node: Node, from_ms: int, to_ms: int, most: int) -> list[Record]:
    """Return runs that match a question, the newest first."""
    page = find(records.reader, records.days, "run", node, from_ms, to_ms, most=most)
    return records_of(records.days, "run", page.names, page.rows)


def _whole(records: Records, rows: Sequence[Record]) -> Iterator[tuple[Record, dict[str, Any]]]:
    """Yield runs with their whole reports, some of them in memory at a time."""
    contents = records.evidence.contents(row.seq for row in rows)
    yield from ((row, content) for row, content in zip(rows, contents, strict=True) if content is not None)


def _run_with(records: Records, run_id: str, time_ms: int) -> dict[str, Any] | None:
    if not run_id:
        return None
    rows = _rows(records, Compare("run", "=", run_id.lower()), time_ms - DAY_MS, time_ms + DAY_MS, 1)
    return next((content for _, content in _whole(records, rows)), None)


def _runs_of_issue(records: Records, issue: int, window: Window) -> set[str]:
    """Return the ids of the runs of an issue's newest failures."""
    rows = issues.failures(records.reader, issue, window, limit=MOST_FAILING)
    contents = records.evidence.contents(row.seq for row in rows)
    return {str(run["id"]).lower() for content in contents if content and (run := content.get("run") or {}).get("id")}


def _stands_for(records: Records, now_ms: int, window: Window) -> dict[tuple[str, str], float]:
    """Return by app and entry point how many healthy runs each one that was sent whole represents."""
    return calls.healthy_weights(records.reader, slots_of(window, now_ms), window)


def _run(row: Record, content: dict[str, Any], stands_for: float) -> Run:
    values = dict(row.values)
    values[HOUR] = str(row.time_ms // HOUR_MS % 24)
    trail = steps_of(content.get("trail") or [])
    outcomes = {f"{step.key} gave {step.outcome}" for step in trail if step.outcome}
    return Run(values, sorted({step.key for step in trail} | outcomes), stands_for)


def _turning(turning: Turning, failing: list[Step], healthy: list[list[Step]], ids: list[str]) -> TurningAnswer:
    nearest = nearest_of(failing, healthy)
    pairs = side_by_side(failing, healthy[nearest]) if nearest is not None else []
    unlike = {difference.place for difference in turning.differences if difference.kind != "missing"}

    def side(steps: list[Step], place: int | None) -> StepSide | None:
        return (
            None
            if place is None
            else StepSide(said=steps[place].said, outcome=steps[place].outcome, ms=steps[place].ms)
        )

    return TurningAnswer(
        said=turning.said,
        found=turning.named is not None,
        differences=[DifferenceAnswer(kind=difference.kind, step=difference.place, alike=difference.alike, of=difference.of, said=difference.said) for difference in turning.differences],
        healthy=turning.healthy,
        nearest=ids[nearest] or None if nearest is not None else None,
        side_by_side=[
            SideBySide(
                here=side(failing, here),
                healthy=side(healthy[nearest], index) if nearest is not None else None,
                differs=here is None or index is None or here in unlike or failing[here].outcome != healthy[nearest or 0][index].outcome,
            )
            for here, index in pairs
        ],
    )  # fmt: skip


def _in_common(contrast: Contrast) -> InCommonAnswer:
    return InCommonAnswer(
        said=contrast.said,
        failing=contrast.failing,
        healthy=contrast.healthy,
        found=[
            CommonAnswer(
                name=feature.name,
                value=feature.value,
                failing=feature.failing,
                failing_share=round(feature.failing_share, 4),
                healthy_share=round(feature.healthy_share, 4),
                chance=feature.chance,
                with_it=[f"{name} {value}" for name, value in feature.folded],
            )
            for feature in contrast.found
        ],
    )
