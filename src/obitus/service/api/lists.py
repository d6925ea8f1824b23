"""``/api/lists``: saved questions about issues, as lists with counts."""

from __future__ import annotations

import time
from typing import Final

from fastapi import Depends
from pydantic import BaseModel, Field

from obitus.service.api.asked import TheWindow
from obitus.service.api.issues import asked_about_issues
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.panes import View
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.store import issues as issue_store
from obitus.store import saved as store
from obitus.store.errors import QueryTooLong
from obitus.store.people import Person
from obitus.store.records import Records
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["saved"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "bad-window", "store-broken"),
)

MOST_LISTS: Final = 40
COUNTED_WITHIN_S: Final = 2.0
"""After this time no further list is counted for one answer."""


class ListAnswer(BaseModel):
    """A saved list of issues."""

    id: int
    name: str
    for_all: bool
    mine: bool
    view: View
    issues: int | None = Field(description="How many it has now; null where counting took too long.")
    failures: int | None


class ListsAnswer(BaseModel):
    """The saved lists of issues that a person sees, by name, with counts."""

    lists: list[ListAnswer]


@router.get("/lists", summary="Saved lists of issues, with counts")
def lists(records: TheRecords, clock: TheClock, window: TheWindow, person: SignedIn) -> ListsAnswer:
    """Return the lists for all, and the person's own, each counted in the window."""
    ends_s = time.monotonic() + COUNTED_WITHIN_S
    rows = []
    for row in store.questions(records.reader, person.id):
        view = View.model_validate_json(row.view)
        if view.kind != "issues":
            continue
        issues = failures = None
        if time.monotonic() < ends_s:
            issues, failures = _counted(records, clock, view, window, person)
        mine = row.person_id == person.id
        rows.append(
            ListAnswer(
                id=row.id,
                name=row.name,
                for_all=bool(row.for_all),
                mine=mine,
                view=view,
                issues=issues,
                failures=failures,
            )
        )
        if len(rows) == MOST_LISTS:
            break
    return ListsAnswer(lists=rows)


def _counted(
    records: Records, clock: Clock, view: View, window: Window, person: Person
) -> tuple[int | None, int | None]:
    """Return the numbers of issues and failures in a list; None where that takes too long, or its question is no longer valid."""
    try:
        asked = asked_about_issues(records, clock, view.question, window, person)
        sums = issue_store.sums(records.reader, window, states=[view.state] if view.state else None, asked=asked)
    except (QueryTooLong, Problem):
        return None, None
    return sums.issues, sums.failures
