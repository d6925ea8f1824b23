"""``/api/quiet``: trouble without an exception, and issues made of it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Path
from pydantic import BaseModel

from obitus.core.clock import to_text
from obitus.core.quiet.failing import question_of
from obitus.service.api.answers import Done
from obitus.service.api.issue_answers import QuietAnswer
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.jobs.collecting import TheCollecting
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import issues as issue_store
from obitus.store import quiet as store
from obitus.store.records import Records
from obitus.store.rows.quiet import QuietRow
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["quiet failures"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "store-broken"),
)

Number = Annotated[int, Path(ge=1, le=2**62, description="The number of the quiet failure.")]
IssueNumber = Annotated[int, Path(ge=1, le=2**62, description="The issue's number.")]


class QuietFailuresAnswer(BaseModel):
    """The present quiet failures, the least probable by chance first."""

    quiet: list[QuietAnswer]


class MadeIssueAnswer(BaseModel):
    """The issue that collects records from now on."""

    issue: int


@router.get("/quiet", summary="Quiet failures")
def quiet_failures(records: TheRecords) -> QuietFailuresAnswer:
    """Return more refusals and warnings than usual, and jobs that did not run, in all apps."""
    return QuietFailuresAnswer(quiet=[_answer(row) for row in store.present(records.reader)])


@router.post(
    "/quiet/{number}/issue",
    summary="Make an issue of a quiet failure",
    responses=described("not-found", "foreign-origin", "nothing-kept"),
)
def make_issue(
    records: TheRecords, clock: TheClock, acts: TheActs, collecting: TheCollecting, person: SignedIn, number: Number
) -> MadeIssueAnswer:
    """Make an issue that collects its past and future records: it is counted, regresses and alerts like any other."""
    row = store.one(records.reader, number)
    if row.issue_id is not None:
        return MadeIssueAnswer(issue=row.issue_id)
    issue_made = collecting.first(row)
    if issue_made is None:
        raise Problem("nothing-kept", "No record of it is kept whole, so there is nothing that an issue could show.")
    issue = collecting.issue_of(issue_made)
    acts.do(
        person.id,
        "made an issue of a quiet failure",
        f"issue {issue}: {row.subject}",
        lambda c: store.collect(c, issue, row.app_id, row.kind, row.subject, person.id, clock.now_ms()),
    )
    return MadeIssueAnswer(issue=issue)


@router.post(
    "/quiet/{number}/leave", summary="Leave a quiet failure alone", responses=described("not-found", "foreign-origin")
)
def leave(records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number) -> Done:
    """Mark it as nothing to act on. When it is over and happens again, it is shown again."""
    row = store.one(records.reader, number)
    acts.do(
        person.id,
        "left a quiet failure",
        row.subject,
        lambda c: store.leave(c, number, person.id, clock.now_ms()),
    )
    return Done()


@router.delete(
    "/issues/{number}/collecting", summary="Stop collecting", responses=described("not-found", "foreign-origin")
)
def collect_no_more(records: TheRecords, acts: TheActs, person: SignedIn, number: IssueNumber) -> Done:
    """End the collecting of an issue that was made of a quiet failure; its failures stay."""
    issue_store.issue(records.reader, number)
    acts.do(person.id, "stopped collecting", f"issue {number}", lambda c: store.collect_no_more(c, number))
    return Done()


def quiet_in(records: Records, window: Window) -> list[QuietAnswer]:
    """Return present quiet failures that nobody has decided on, of a window's app and environment."""
    return [
        _answer(row)
        for row in store.present(records.reader)
        if row.left_ms is None
        and row.issue_id is None
        and window.app in (None, row.app)
        and window.environment in (None, row.environment)
    ]


def _answer(row: QuietRow) -> QuietAnswer:
    records, question = question_of(row.kind, row.app, row.subject)
    return QuietAnswer(
        id=row.id,
        app=row.app,
        environment=row.environment,
        kind=row.kind,
        subject=row.subject,
        reason=row.reason,
        found=to_text(row.found_ms),
        held=to_text(row.held_ms),
        issue=row.issue_id,
        left_by=row.left_by,
        records=records,
        question=question,
    )
