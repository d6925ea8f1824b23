"""Dependencies of routes: each route names the parts of the service that it needs. These are coroutines although
they hardly wait: the framework would run plain functions on another thread.
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
"""Key of the request's scope for the parts, by name."""


def part(name: str) -> Any:
    """Return the dependency for the part with a name."""

    async def given(request: Request) -> Any:
        return getattr(request.scope[SCOPE], name)

    return Depends(given)


async def _records(request: Request) -> Records:
    """Return the records limited to the apps that the asker may see."""
    records: OpenRecords = request.scope[SCOPE].records
    person = request.scope.get(PERSON)
    if person is None or person.sight.is_whole:
        return records
    # The first time it opens the store, on the threads for checking who asks.
    threads: Threads = request.scope[SCOPE].passes.threads
    return await threads.do(records.seen_with, person.sight)


TheRecords = Annotated[Records, Depends(_records)]
TheClock = Annotated[Clock, part("clock")]
TheSettings = Annotated[Settings, part("settings")]
TheLive = Annotated[Live, part("live")]
