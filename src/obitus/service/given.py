"""What routes are given of the service that answers: each names the parts that it needs, and sees no others.

These are coroutines though they wait for next to nothing: the framework would hand each plain function to another thread and back.
"""

from __future__ import annotations

from typing import Annotated, Any, Final

from fastapi import Depends, Request

from obitus.service.clock import Clock
from obitus.service.front import PERSON
from obitus.service.live import Live
from obitus.service.settings import Settings
from obitus.service.threads import Threads
from obitus.store.records import OpenRecords, Records

SCOPE: Final = "obitus.parts"
"""Where a request's scope holds the parts, by name."""


def part(name: str) -> Any:
    """Return what gives a route the part with a name."""

    async def given(request: Request) -> Any:
        return getattr(request.scope[SCOPE], name)

    return Depends(given)


async def _records(request: Request) -> Records:
    """Return the records as whoever asks sees them: of apps that they may not see, nothing is there."""
    records: OpenRecords = request.scope[SCOPE].records
    person = request.scope.get(PERSON)
    if person is None or person.sight.is_whole:
        return records
    # The first time it opens the store. Of the threads that know who asks: whoever sees less waits no longer than others.
    threads: Threads = request.scope[SCOPE].passes.threads
    return await threads.do(records.seen_with, person.sight)


TheRecords = Annotated[Records, Depends(_records)]
TheClock = Annotated[Clock, part("clock")]
TheSettings = Annotated[Settings, part("settings")]
TheLive = Annotated[Live, part("live")]
