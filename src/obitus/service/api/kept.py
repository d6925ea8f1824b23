"""``/api/kept``: how long reports are kept, previews, and what was removed."""

from __future__ import annotations

from typing import Annotated, Final, Literal

from fastapi import Depends, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.days import day_text
from obitus.service.api.answers import Time
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.jobs.keeping import TheKeeping
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import apps as store_apps
from obitus.store import retention
from obitus.store.days.thinning import KINDS
from obitus.store.records import Records
from obitus.store.retention import DayRemoval
from obitus.store.rows.kept import KeptFor

router = Router(
    prefix="/api/kept",
    tags=["kept"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "not-found", "store-broken"
    ),
)

KindName = Literal["failures", "logs", "healthy runs", "other runs"]
Days = Annotated[int, Field(ge=0, le=retention.MOST_DAYS)]
LEAST_BYTES: Final = 10_000_000


class KeptForAnswer(BaseModel):
    """How long a kind is kept."""

    kind: KindName
    app: str = Field(description="'' for all apps.")
    days: int = Field(description="0 for ever.")
    said: bool = Field(description="Whether somebody set it; else it is the default.")


class RemovedDayAnswer(BaseModel):
    """A day of which a part was removed."""

    day: str
    why: str
    rows: int = Field(description="Failures, logs and runs that were removed, in all.")
    time: Time


class KeptAnswer(BaseModel):
    """How long reports are kept, and how much room it takes."""

    kept: list[KeptForAnswer]
    most_bytes: int | None = Field(description="What the files of all days may take; null for as much as there is.")
    bytes: int = Field(description="What they take now.")
    days: int
    oldest: str | None = Field(description="The oldest day that something is kept of.")
    held: str = Field(description="Why nothing is removed by its age at present; '' where it is.")
    removed: list[RemovedDayAnswer]


class KeptOrder(BaseModel):
    """How long a kind is to be kept, or how much room everything may take."""

    model_config = ConfigDict(extra="forbid", strict=True)

    kind: KindName | None = None
    app: Annotated[str, Field(max_length=100)] = Field(default="", description="'' for all apps.")
    days: Days | None = Field(default=None, description="0 for ever; null for the default.")
    most_bytes: Annotated[int, Field(ge=LEAST_BYTES, le=2**60)] | None = Field(
        default=None, description="Without a kind: what the files of all days may take; null for as much as there is."
    )


class DayToRemove(BaseModel):
    """The removals of a day."""

    day: str
    why: str
    whole: bool = Field(description="Whether its file goes; else it is rewritten without them.")
    failures_that_stay: int = Field(
        description="The first and latest of open issues, and those of issues with notes or files."
    )
    bytes: int = Field(description="Size of its file now: of a day that is removed as a whole, the room that it frees.")


class KeptPreview(BaseModel):
    """The removals that are due."""

    steps: list[DayToRemove]
    whole_days: int
    bytes: int = Field(description="What the days that go as a whole free. Of the others a part is freed.")


@router.get("", summary="How long reports are kept")
def kept(records: TheRecords, keeping: TheKeeping) -> KeptAnswer:
    """Return how long each kind is kept, how much room everything takes, and which days had removals."""
    rules = retention.rules(records.reader)
    names = {app.id: app.name for app in store_apps.apps(records.reader)}
    days = records.days.known()
    return KeptAnswer(
        kept=[_kept(rules, kind, 0, "") for kind in KINDS]
        + [_kept(rules, rule.kind, rule.app_id, names[rule.app_id]) for rule in rules if rule.app_id in names],
        most_bytes=retention.within(records.reader),
        bytes=retention.bytes_of_days(records),
        days=len(days),
        oldest=min((day_text(day.day) for day in days if day.day), default=None),
        held=keeping.why_held,
        removed=[
            RemovedDayAnswer(
                day=day_text(thinned_day.day),
                why=thinned_day.why,
                rows=thinned_day.removed,
                time=to_text(thinned_day.thinned_ms),
            )
            for thinned_day in retention.thinned(records.reader)[:100]
        ],
    )


@router.put("", summary="Set how long something is kept")
def keep(records: TheRecords, acts: TheActs, keeping: TheKeeping, person: SignedIn, order: KeptOrder) -> KeptAnswer:
    """Set for how many days a kind is kept, of an app or of all; or how much room everything may take. It takes
    effect within ten minutes."""
    if order.kind is None:
        amount = "as much as there is" if order.most_bytes is None else f"{order.most_bytes:,} bytes at most"
        acts.do(person.id, "kept for", amount, lambda c: retention.keep_within(c, order.most_bytes))
    else:
        kind = order.kind
        app_id = store_apps.app_named(records.reader, order.app).id if order.app else 0
        length = "as before" if order.days is None else f"{order.days} days" if order.days else "for ever"
        acts.do(
            person.id,
            "kept for",
            f"{kind} of {order.app or 'all apps'}: {length}",
            lambda c: retention.keep_for(c, kind, app_id, order.days),
        )
    return kept(records, keeping)


@router.get("/preview", summary="What would be removed")
def preview(
    records: TheRecords,
    clock: TheClock,
    kind: Annotated[KindName | None, Query(description="Try another length for this kind.")] = None,
    app: Annotated[str, Query(max_length=100, description="Of this app; '' for all.")] = "",
    days: Annotated[int | None, Query(ge=0, le=retention.MOST_DAYS)] = None,
    most_bytes: Annotated[int | None, Query(ge=LEAST_BYTES, le=2**60)] = None,
) -> KeptPreview:
    """Return the removals that are due now; with a kind or a size, those that would be due with that setting. Nothing is removed."""
    rules = retention.rules(records.reader)
    if kind is not None and days is not None:
        app_id = store_apps.app_named(records.reader, app).id if app else 0
        rules = [rule for rule in rules if (rule.kind, rule.app_id) != (kind, app_id)] + [KeptFor(kind, app_id, days)]
    return _preview(records, clock.now_ms(), rules, most_bytes)


def _preview(records: Records, now_ms: int, rules: list[KeptFor], most_bytes: int | None) -> KeptPreview:
    steps = retention.due(records, now_ms, said=rules, most_bytes=most_bytes)
    return KeptPreview(
        steps=[_step(step) for step in steps],
        whole_days=sum(step.whole for step in steps),
        bytes=sum(step.bytes for step in steps if step.whole),
    )


def _step(removal: DayRemoval) -> DayToRemove:
    return DayToRemove(
        day=day_text(removal.day),
        why=removal.why,
        whole=removal.whole,
        failures_that_stay=len(removal.kept),
        bytes=removal.bytes,
    )


def _kept(rules: list[KeptFor], kind: str, app_id: int, app: str) -> KeptForAnswer:
    days = retention.days_of(rules, kind, app_id)
    is_said = any((one.kind, one.app_id) == (kind, app_id) for one in rules)
    return KeptForAnswer.model_validate({"kind": kind, "app": app, "days": days, "said": is_said})
