"""``/api/traces/{trace}/seen``: what a person saw on a page, beside what a service received."""

from __future__ import annotations

from typing import Annotated, Any, Final

from fastapi import Depends, Path
from pydantic import BaseModel, Field

from obitus.core.asking.tree import Compare
from obitus.core.clock import LAST_MS
from obitus.core.page_comparison import beside
from obitus.service.api.answers import AsKept
from obitus.service.dependencies import TheRecords
from obitus.service.intake.formats import Sketch
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store.asking.finding import find, names_in
from obitus.store.asking.records import records_of

router = Router(
    prefix="/api",
    tags=["records"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)
MOST_OF_A_KIND: Final = 50

Trace = Annotated[str, Path(pattern="^[0-9a-f]{32}$", description="A trace id (W3C Trace Context).")]


class SeenAnswer(BaseModel):
    """The sketches of a trace."""

    app: str = Field(description="The app whose page it was, '' where no page drew anything in this trace.")
    entry_point: str
    sketches: list[Annotated[dict[str, Any], AsKept(Sketch)]] = Field(
        description="What the page looked like, the oldest first."
    )
    said: list[str] = Field(
        description="What the page and what a service received say of each other that cannot both be right."
    )


@router.get("/traces/{trace}/seen", summary="What the person saw")
def seen(records: TheRecords, trace: Trace) -> SeenAnswer:
    """Return the sketches of the page where a trace began, and certain differences from the requests that its services received."""
    pairs: list[tuple[dict[str, Any], dict[str, Any]]] = []
    names = names_in(records.reader)
    for kind in ("failure", "run"):
        page = find(
            records.reader, records.days, kind, Compare("trace_id", "=", trace), 0, LAST_MS, most=MOST_OF_A_KIND
        )
        listed = records_of(records.days, kind, names, page.rows)
        contents = records.evidence.contents(failure_row.seq for failure_row in listed)
        pairs += [
            (failure_row.values, content)
            for failure_row, content in zip(listed, contents, strict=True)
            if content is not None
        ]
    drawn = [(values, content) for values, content in pairs if content.get("sketches")]
    if not drawn:
        return SeenAnswer(app="", entry_point="", sketches=[], said=[])
    values, content = max(drawn, key=lambda one: one[1]["sketches"][-1]["time"])
    compared: dict[str, None] = {}
    for theirs, received in pairs:
        body = (received.get("request") or {}).get("body")
        # Requests between services may have another form.
        if body and theirs.get("app") != values.get("app"):
            compared |= dict.fromkeys(beside(content["sketches"][-1].get("boxes") or (), body, str(theirs.get("app"))))
    return SeenAnswer(
        app=str(values.get("app") or ""),
        entry_point=str((content.get("run") or {}).get("entry_point") or ""),
        sketches=content["sketches"],
        said=list(compared),
    )
