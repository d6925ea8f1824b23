"""``/api/me/looks-at``: who looks at which issue at the moment."""

from __future__ import annotations

from pydantic import BaseModel, Field

from obitus.service.api.issues import Number
from obitus.service.dependencies import TheRecords
from obitus.service.presence import SAID_AGAIN_S, ThePresence
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn
from obitus.store import issues as issue_store

router = Router(
    prefix="/api",
    tags=["issues"],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "not-found"),
)


class LookingAnswer(BaseModel):
    """The people who look at an issue."""

    people: list[str] = Field(description="All who do, the asker too, by name.")
    again_s: float = Field(description="Seconds after which somebody who still looks at it should report so again.")


@router.put("/me/looks-at/{number}", summary="Report that I look at an issue")
def looks(records: TheRecords, presence: ThePresence, person: SignedIn, number: Number) -> LookingAnswer:
    """Report that I look at an issue; without a repetition it ends after a while."""
    issue_store.issue(records.reader, number)
    return LookingAnswer(people=presence.looks(number, person.name), again_s=SAID_AGAIN_S)


@router.delete("/me/looks-at/{number}", summary="Report that I no longer look at an issue")
def leaves(records: TheRecords, presence: ThePresence, person: SignedIn, number: Number) -> LookingAnswer:
    """Leave an issue."""
    issue_store.issue(records.reader, number)
    return LookingAnswer(people=presence.leaves(number, person.name), again_s=SAID_AGAIN_S)
