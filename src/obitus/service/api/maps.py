"""``/api/apps/{name}/maps``: source maps of an app's builds, so that failures show the original source."""

from __future__ import annotations

import asyncio
import re
from dataclasses import replace
from typing import Annotated, Final

from fastapi import Depends, Query, Request
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.maps.source_map import MapTrouble
from obitus.core.releases import MOST_CHARACTERS, canonical
from obitus.service.api import answers
from obitus.service.api.apps import AppName
from obitus.service.api.releases import READS, who_deploys
from obitus.service.dependencies import TheClock, TheRecords, TheSettings, part
from obitus.service.intake.bodies import PEOPLE, read_whole
from obitus.service.intake.intake import TheIntake
from obitus.service.jobs.regrouping_orders import TheRegroupingOrders
from obitus.service.maps.shelf import MOST_BYTES, Shelf
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.store import maps as store
from obitus.store import people
from obitus.store import releases as release_store
from obitus.store.apps import app_named

router = Router(
    prefix="/api",
    tags=["source maps"],
    responses=described("not-signed-in", "bad-field", "not-found", "query-too-long", "store-broken"),
)
MOST_AT_ONCE: Final = 1000
MOST_PATH: Final = 500
_HASH: Final = r"^[0-9a-f]{64}$"
_PIPELINE: Final = described("no-key", "unknown-key", "revoked-key", "foreign-origin", "not-this-key")

TheShelf = Annotated[Shelf, part("shelf")]
Release = Annotated[
    str,
    Query(max_length=MOST_CHARACTERS, description="The release that was built; empty where the map's own id tells."),
]
BuiltPath = Annotated[
    str,
    Query(min_length=1, max_length=MOST_PATH, description="Path of the built file, below the folder that is deployed."),
]
Who = Annotated[tuple[str, str | None, str | None], Depends(who_deploys)]


class MapOrder(BaseModel):
    """A map of a build."""

    model_config = ConfigDict(extra="forbid", strict=True)

    path: str = Field(min_length=1, max_length=MOST_PATH, description="Path of the built file.")
    hash: str = Field(pattern=_HASH, description="SHA-256 of the map, as hexadecimal digits.")


class MapsOrder(BaseModel):
    """The maps of a build."""

    model_config = ConfigDict(extra="forbid", strict=True)

    release: str = Field(max_length=MOST_CHARACTERS)
    maps: list[MapOrder] = Field(max_length=MOST_AT_ONCE)


class MissingMapsAnswer(BaseModel):
    """Which maps have to be sent."""

    missing: list[str] = Field(description="Paths of built files whose maps are not here, or are others.")


class MapAnswer(BaseModel):
    """A stored map."""

    path: str
    debug_id: str = Field(description="The id by which build and map know each other, '' where the build wrote none.")
    sources: int
    with_text: int = Field(description="How many sources the map holds the text of.")


class TurnBackOrder(BaseModel):
    """A release whose maps are complete."""

    model_config = ConfigDict(extra="forbid", strict=True)

    release: str = Field(max_length=MOST_CHARACTERS)


class TurnedBackAnswer(BaseModel):
    """The regrouping of failures that came before the maps."""

    regrouping: int | None = Field(description="The regrouping that was begun; null where nothing came before.")
    said: str


class ReleaseMapsAnswer(BaseModel):
    """The maps of one release."""

    release: str
    maps: int
    bytes: int
    with_text: int = Field(description="How many of the maps hold the text of sources.")
    latest: answers.Time


class AppMapsAnswer(BaseModel):
    """The maps of an app."""

    releases: list[ReleaseMapsAnswer] = Field(description="The latest first.")


class RemovedMapsAnswer(BaseModel):
    """How many maps were removed."""

    removed: int


@router.get("/apps/{name}/maps", summary="Source maps, by release", dependencies=READS)
def maps(records: TheRecords, name: AppName) -> AppMapsAnswer:
    """Return the releases that have source maps."""
    rows = store.by_release(records.reader, app_named(records.reader, name).id)
    return AppMapsAnswer(
        releases=[
            ReleaseMapsAnswer(
                release=row.release, maps=row.maps, bytes=row.bytes, with_text=row.with_text, latest=to_text(row.latest_ms)
            )
            for row in rows
        ]
    )  # fmt: skip


@router.post("/apps/{name}/maps/missing", summary="Which source maps have to be sent", responses=_PIPELINE)
def missing(records: TheRecords, shelf: TheShelf, who: Who, name: AppName, order: MapsOrder) -> MissingMapsAnswer:
    """Return which maps of a build are missing here: nothing is sent twice. A reporting key that may deploy is enough."""
    app_id = _app(records, who, name)
    digests = store.hashes(records.reader, app_id, canonical(order.release))
    return MissingMapsAnswer(
        missing=[
            wanted.path
            for wanted in order.maps
            for digest in (bytes.fromhex(wanted.hash),)
            if digests.get(wanted.path) != digest or not shelf.has(digest)
        ]
    )


@router.post(
    "/apps/{name}/maps",
    summary="Send a source map",
    status_code=201,
    responses=_PIPELINE
    | described(
        "bad-map", "too-many", "body-too-large", "inflates-too-large", "body-too-slow", "body-cut-off", "encoding-broken",
        "encoding-not-supported", "too-busy",
    ),
    openapi_extra={
        "requestBody": {
            "required": True,
            "description": "The map, as the build wrote it. `Content-Encoding` may be `gzip` or `zstd`.",
            "content": {"application/json": {"schema": {"type": "object"}}},
        }
    },
)  # fmt: skip
async def add(
    request: Request,
    records: TheRecords,
    settings: TheSettings,
    intake: TheIntake,
    clock: TheClock,
    shelf: TheShelf,
    who: Who,
    name: AppName,
    path: BuiltPath,
    release: Release = "",
) -> MapAnswer:
    """Store the source map of one built file, in place of the one before. A reporting key that may deploy is enough."""
    app_id, built = await asyncio.to_thread(_app, records, who, name), _checked(path)
    limits = replace(settings.limits, inflated_bytes=MOST_BYTES)
    async with intake.gate.entered(PEOPLE) as held:
        data = await read_whole(request, limits, held)
        try:
            row = await asyncio.to_thread(
                shelf.add, records.writer, app_id, canonical(release), built, data, who[0], clock.now_ms()
            )
        except MapTrouble as trouble:
            raise Problem(
                "bad-map", f"The map of {built} is not taken: {trouble}. Build it again.", field="path"
            ) from None
    return MapAnswer(path=built, debug_id=row.debug_id, sources=row.sources, with_text=row.with_text)


@router.post(
    "/apps/{name}/maps/turn-back",
    summary="Map back failures that came before the maps",
    status_code=202,
    responses=_PIPELINE,
)
def turn_back(
    records: TheRecords, orders: TheRegroupingOrders, who: Who, name: AppName, order: TurnBackOrder
) -> TurnedBackAnswer:
    """Regroup an app's failures once all maps of a release are here, if some failures came before them. Can be undone."""
    app_id, release = _app(records, who, name), canonical(order.release)
    if not release_store.has_failed(records.reader, app_id, release):
        return TurnedBackAnswer(regrouping=None, said="No failure came before these maps.")
    owner = people.owner(records.reader)
    assert owner is not None
    sentence = (
        f"Source maps of {name} {release} came after failures: they are turned back, and its history is regrouped."
    )
    return TurnedBackAnswer(regrouping=orders.regroup(app_id, name, owner.id, who[0], sentence), said=sentence)


@router.delete("/apps/{name}/maps", summary="Remove the source maps of a release", responses=_PIPELINE)
def remove(records: TheRecords, shelf: TheShelf, who: Who, name: AppName, release: Release = "") -> RemovedMapsAnswer:
    """Remove the maps of a release. Frames that were mapped back when they arrived stay so."""
    return RemovedMapsAnswer(removed=shelf.remove(records.writer, _app(records, who, name), canonical(release)))


def _app(records: TheRecords, who: tuple[str, str | None, str | None], name: str) -> int:
    """Return the app; raises a problem where a key is for another one."""
    if who[1] is not None and who[1] != name:
        raise Problem("not-this-key", f"This reporting key is for {who[1]}, not for {name}. Use a key of its own.")
    return app_named(records.reader, name).id


def _checked(path: str) -> str:
    parts = [part for part in path.replace("\\", "/").split("/") if part not in ("", ".")]
    if not parts or ".." in parts or re.search(r"[\x00-\x1f]", path):
        raise Problem(
            "bad-field", "The path of the built file is expected, below the folder that is deployed.", field="path"
        )
    return "/".join(parts)
