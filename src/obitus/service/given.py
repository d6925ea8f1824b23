"""What routes are given of the service that answers: each names the parts that it needs, and sees no others."""

from __future__ import annotations

from typing import Annotated, Any, Final

from fastapi import Depends, Request

from obitus.service.clock import Clock
from obitus.service.live import Live
from obitus.service.settings import Settings
from obitus.store.records import Records

SCOPE: Final = "obitus.parts"
"""Where a request's scope holds the parts, by name."""


def part(name: str) -> Any:
    """Return what gives a route the part with a name."""

    def given(request: Request) -> Any:
        return getattr(request.scope[SCOPE], name)

    return Depends(given)


TheRecords = Annotated[Records, part("records")]
TheClock = Annotated[Clock, part("clock")]
TheSettings = Annotated[Settings, part("settings")]
TheLive = Annotated[Live, part("live")]
