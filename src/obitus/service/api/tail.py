"""``/api/records/{kind}/tail``: new records of a question, as they come (server-sent events)."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from typing import Annotated, Any, Final

from fastapi import Header, Query
from fastapi.responses import Response

from obitus.service.api.asked import Question, TheWindow, understood
from obitus.service.api.records import KINDS, WhichKind, asked_for, rows_of
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.jobs.following_records import Marks, Tail, Tailing, TheTailing
from obitus.service.live import HEARTBEAT_S, LiveResponse
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn
from obitus.store import people
from obitus.store.records import Records

router = Router(prefix="/api/records", tags=["records"])

LONGEST_ID: Final = 400


@router.get(
    "/{kind}/tail",
    summary="New records that match a question, as they arrive",
    response_class=LiveResponse,
    responses=described("not-signed-in", "too-busy", "bad-question", "bad-window")
    | {200: {"content": {"text/event-stream": {"schema": {"type": "string"}}}, "description": "Server-sent events."}},
)
async def tail(
    records: TheRecords,
    clock: TheClock,
    tailing: TheTailing,
    person: SignedIn,
    kind: WhichKind,
    window: TheWindow,
    question: Question = None,
    known_to: Annotated[
        str | None,
        Header(
            alias="Last-Event-ID",
            max_length=LONGEST_ID,
            description="The id of the last event that arrived: the stream continues after it, without a gap.",
        ),
    ] = None,
    after: Annotated[
        str | None,
        Query(max_length=LONGEST_ID, description="The same, for clients that cannot set a header."),
    ] = None,
) -> Response:
    """Stream `records`: new records since the last event, oldest first, and how many were left out because they are
    too many. `after` in the data of each event is its id. Of the window only app, environment and release count: late records are shown too.
    """
    if tailing.is_full(person.pass_id):
        raise Problem("too-busy", "Too many tails are followed. Close one, or try again later.", retry_after_s=30)
    node = asked_for(window, understood(question, clock))
    marks = _marks(known_to or after)
    if marks is None:
        marks = await asyncio.to_thread(tailing.newest)
    followed = Tail(person.pass_id, records, KINDS[kind], node, marks)

    def may_still() -> bool:
        return people.is_good(records.reader, person.pass_id, clock.now_ms())

    return LiveResponse(_texts(tailing, followed, records, kind, may_still), media_type="text/event-stream")


async def _texts(
    tailing: Tailing, followed: Tail, records: Records, kind: WhichKind, may_still: Callable[[], bool]
) -> AsyncIterator[str]:
    tailing.add(followed)
    try:
        yield "retry: 1000\n" + _event("open", {}, followed.marks)
        await asyncio.to_thread(tailing.look_at, followed)
        while not followed.ended:
            try:
                async with asyncio.timeout(HEARTBEAT_S):
                    texts, left_out, marks = await followed.read()
            except TimeoutError:
                if not await asyncio.to_thread(may_still):
                    return
                yield ": still here\n\n"
                continue
            if texts or left_out:
                rows = await asyncio.to_thread(rows_of, records, kind, texts)
                data = {"records": [row.model_dump() for row in rows], "left_out": left_out}
                yield _event("records", data, marks)
    finally:
        tailing.remove(followed)


def _event(kind: str, data: dict[str, Any], marks: Marks) -> str:
    """Return an event as text; its id is in its data too."""
    after = _id(marks)
    return f"id: {after}\nevent: {kind}\ndata: {json.dumps(data | {'after': after})}\n\n"


def _id(marks: Marks) -> str:
    """Return the positions of a tail as the id of an event: day and place, for each of the newest days."""
    return ",".join(f"{day}:{place}" for day, place in sorted(marks.items()))


def _marks(text: str | None) -> Marks | None:
    """Parse an event's id; None where it is invalid."""
    try:
        pairs = [part.split(":") for part in (text or "").split(",")]
        marks = {int(day): int(place) for day, place in pairs}
    except ValueError:
        return None
    return marks if all(0 <= day < 2**31 and 0 <= place < 2**32 for day, place in marks.items()) else None
