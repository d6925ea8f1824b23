"""``/api/issues/…/earlier``: similar settled issues, with what was known and done then."""

from __future__ import annotations

from typing import Final

from fastapi import Depends
from pydantic import BaseModel, Field

from obitus.core.clock import to_text
from obitus.core.earlier import nearness
from obitus.core.headline import Headline
from obitus.core.prose import beginning
from obitus.core.wording import span
from obitus.service.api import answers
from obitus.service.api.issues import Number
from obitus.service.dependencies import TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import earlier as store
from obitus.store import issues as issue_store
from obitus.store import notes as note_store
from obitus.store.records import Records

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "not-found", "store-broken"),
)

MOST_LOOKED_AT_CLOSER: Final = 50
MOST_EARLIER: Final = 5
MOST_KNOWN: Final = 4
"""Notes and checks of an earlier issue that are shown."""


class KnownThen(BaseModel):
    """A note on an earlier issue."""

    person: str
    time: answers.Time
    looked_at: str
    found: str
    text: str = Field(description="Its beginning, as plain text.")


class EarlierIssue(BaseModel):
    """A similar settled issue."""

    number: int
    app: str
    title: str
    state: answers.StateName = Field(description="`regressed` where the fix did not hold.")
    alike: list[str] = Field(description="What they have in common, the strongest first.")
    score: float = Field(description="How near it is, from 0 to 1.")
    settled: answers.Time
    how: str = Field(description="How it was settled, and by whom.")
    lasted: str = Field(description="From its first failure until it was settled.")
    known: list[KnownThen] = Field(description="Suspicious checks first, then the latest notes.")
    known_in_all: int


class EarlierAnswer(BaseModel):
    """Similar earlier issues, the nearest first."""

    earlier: list[EarlierIssue]
    looked_at: int = Field(description="Settled issues that share a function, a type or an entry point with it.")


@router.get("/issues/{number}/earlier", summary="Settled issues that looked alike")
def earlier(records: TheRecords, number: Number) -> EarlierAnswer:
    """Return similar issues that were settled, with what was done and known then."""
    issue = issue_store.issue(records.reader, number)
    own = store.looks_of(records.reader, issue, traits=True)
    candidates = store.candidates(records.reader, issue)
    ranked = [(nearness(own, store.looks_of(records.reader, row)), row) for row in candidates]
    ranked.sort(key=lambda pair: (-pair[0].score, -pair[1].settled_ms))
    answers_found = []
    for _, row in ranked[:MOST_LOOKED_AT_CLOSER]:
        # Callers are compared only for the nearest, since they need a further query.
        near = nearness(own, store.looks_of(records.reader, row, traits=True))
        if near.is_enough:
            answers_found.append((near, row))
    answers_found.sort(key=lambda pair: (-pair[0].score, -pair[1].settled_ms))
    return EarlierAnswer(
        looked_at=len(candidates),
        earlier=[
            EarlierIssue(
                number=row.id,
                app=row.app,
                title=Headline(row.type, row.cause, row.place).title,
                state=row.state,
                alike=list(near.reasons),
                score=round(near.score, 2),
                settled=to_text(row.settled_ms),
                how=store.settled_by(records.reader, row.id),
                lasted=span(max(0, row.settled_ms - row.first_ms)),
                known=looks[:MOST_KNOWN],
                known_in_all=len(looks),
            )
            for near, row in answers_found[:MOST_EARLIER]
            for looks in (_known(records, row.id),)
        ],
    )


def _known(records: Records, number: int) -> list[KnownThen]:
    """Return the notes of an issue: suspicious checks, then the rest, each the latest first."""
    rows = sorted(note_store.notes(records.reader, number), key=lambda row: (row.found != "suspicious", -row.time_ms))
    return [
        KnownThen(
            person=row.person,
            time=to_text(row.time_ms),
            looked_at=row.looked_at,
            found=row.found,
            text=beginning(row.text, 300),
        )
        for row in rows
    ]
