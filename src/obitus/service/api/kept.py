"""``/api/kept``: how long reports are kept, previews, and what was removed."""

from __future__ import annotations

from typing import Annotated, Final, Literal

from fastapi import Depends, Query
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.days import day_text
from obitus.service.api.answers import Time
from obitus.service.dependencies import TheClock, TheRecords
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
def kept(records: TheRecords) -> KeptAnswer:
    """Return how long each kind is kept, how much room everything takes, and which days had removals."""
    said = retention.rules(records.reader)
    names = {one.id: one.name for one in store_apps.apps(records.reader)}
    known = records.days.known()
    return KeptAnswer(
        kept=[_kept(said, kind, 0, "") for kind in KINDS]
        + [_kept(said, one.kind, one.app_id, names[one.app_id]) for one in said if one.app_id in names],
        most_bytes=retention.within(records.reader),
        bytes=retention.bytes_of_days(records),
        days=len(known),
        oldest=min((day_text(one.day) for one in known if one.day), default=None),
        removed=[
            RemovedDayAnswer(day=day_text(one.day), why=one.why, rows=one.removed, time=to_text(one.thinned_ms))
            for one in retention.thinned(records.reader)[:100]
        ],
    )


@router.put("", summary="Say how long something is kept")
def keep(records: TheRecords, acts: TheActs, person: SignedIn, order: KeptOrder) -> KeptAnswer:
    """Set for how many days a kind is kept, of an app or of all; or how much room everything may take. It takes
    effect within ten minutes."""
    if order.kind is None:
        said = "as much as there is" if order.most_bytes is None else f"{order.most_bytes:,} bytes at most"
        acts.do(person.id, "kept for", said, lambda c: retention.keep_within(c, order.most_bytes))
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
    return kept(records)


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
    said = retention.rules(records.reader)
    if kind is not None and days is not None:
        app_id = store_apps.app_named(records.reader, app).id if app else 0
        said = [one for one in said if (one.kind, one.app_id) != (kind, app_id)] + [KeptFor(kind, app_id, days)]
    return _preview(records, clock.now_ms(), said, most_bytes)


def _preview(records: Records, now_ms: int, said: list[KeptFor], most_bytes: int | None) -> KeptPreview:
    steps = retention.due(records, now_ms, said=said, most_bytes=most_bytes)
    return KeptPreview(
        steps=[_step(one) for one in steps],
        whole_days=sum(one.whole for one in steps),
        bytes=sum(one.bytes for one in steps if one.whole),
    )


def _step(one: DayRemoval) -> DayToRemove:
    return DayToRemove(
        day=day_text(one.day), why=one.why, whole=one.whole, failures_that_stay=len(one.kept), bytes=one.bytes
    )


def _kept(said: list[KeptFor], kind: str, app_id: int, app: str) -> KeptForAnswer:
    days = retention.days_of(said, kind, app_id)
    is_said = any((one.kind, one.app_id) == (kind, app_id) for one in said)
    return KeptForAnswer.model_validate({"kind": kind, "app": app, "days": days, "said": is_said})
