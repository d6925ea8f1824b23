"""``/api``: reproducing a failure: its request, or its call, as runnable code."""

from __future__ import annotations

import re
import uuid
from typing import Annotated, Any, Final, Literal, cast

from fastapi import Depends, Path, Query
from pydantic import BaseModel, Field

from obitus.core.clock import LAST_MS, to_text
from obitus.core.reproducing.call import About, NoCall, Reproduction, as_test, call_in
from obitus.core.reproducing.request import Form as RequestForm
from obitus.core.reproducing.request import NoRequest, as_form
from obitus.service.api.issues import Number
from obitus.service.dependencies import TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store import issues
from obitus.store.rows.issues import Failure
from obitus.store.windows import Window

router = Router(
    prefix="/api",
    tags=["issues"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "not-found", "store-broken"),
)

MOST_LOOKED_AT: Final = 60
"""The number of latest failures of an issue among which a reproducible one is searched."""
MOST_RELEASES, FIRST_OF_A_RELEASE = 6, 10
"""And the number of first ones of each of the latest releases."""
BASE: Final = "http://127.0.0.1:8000"
_ADDRESS: Final = re.compile(r"https?://[A-Za-z0-9.\[\]:_-]{1,250}(?:/[A-Za-z0-9._~/-]{0,250})?")
FormName = Literal["call", "expects", "curl", "http", "pytest"]
Form = Annotated[
    FormName,
    Query(
        alias="as",
        description="`call`: a pytest that makes the failing call, and fails as long as the fault is there; `expects`: the same, "
        "which passes as long as it is there; `curl`, `http`, `pytest`: the request.",
    ),
]
Base = Annotated[str, Query(max_length=500, description="The development server that the request is sent to.")]


class MissingAnswer(BaseModel):
    """A value that could not be kept."""

    name: str = Field(description="The placeholder in its place; '' where there is none.")
    seen: str = Field(description="What is known of it, or why it is missing.")


class ReproductionAnswer(BaseModel):
    """Runnable code."""

    form: FormName
    name: str = Field(description="Of the file to keep it in.")
    text: str
    missing: list[MissingAnswer]
    notes: list[str]
    failure: str = Field(description="The id of the failure that it was made from.")


@router.get("/failures/{id}/reproduce", summary="Reproduce a failure", responses=described("cannot-reproduce"))
def reproduce_failure(
    records: TheRecords,
    id: Annotated[uuid.UUID, Path(description="The failure's id.")],
    form: Form = "call",
    base: Base = BASE,
) -> ReproductionAnswer:
    """Return a failure's call or request as a test or a command. Hidden and cut values are placeholders with their names."""
    failure = issues.failure_with_id(records.reader, id.bytes)
    return _answer(failure, records.evidence.content(failure.seq) or {}, form, base)


@router.get("/issues/{number}/reproduce", summary="Reproduce an issue", responses=described("cannot-reproduce"))
def reproduce_issue(records: TheRecords, number: Number, form: Form = "call", base: Base = BASE) -> ReproductionAnswer:
    """The same for the latest failure of an issue that can be reproduced."""
    issues.issue(records.reader, number)
    latest = issues.failures(records.reader, number, Window(0, LAST_MS), limit=MOST_LOOKED_AT)
    # In a flood the latest may all be from one minute: the first ones of a release have their calls.
    known = {latest_failure.seq for latest_failure in latest}
    first = issues.first_of_releases(records.reader, number, MOST_RELEASES, FIRST_OF_A_RELEASE)
    latest += [latest_failure for latest_failure in first if latest_failure.seq not in known]
    first_problem: Problem | None = None
    for failure, content in zip(
        latest, records.evidence.contents(latest_failure.seq for latest_failure in latest), strict=True
    ):
        if content is None or (form in ("call", "expects") and call_in(content) is None):
            continue
        try:
            return _answer(failure, content, form, base)
        except Problem as problem:
            first_problem = first_problem or problem
    raise first_problem or Problem(
        "cannot-reproduce",
        f"None of {len(latest):,} failures kept its call. The Python client keeps it with the first failures of each "
        "place in the code, and once a minute after that."
        if form in ("call", "expects")
        else "Its evidence is no longer kept.",
    )


def _answer(failure: Failure, content: dict[str, Any], form: FormName, base: str) -> ReproductionAnswer:
    if _ADDRESS.fullmatch(base) is None:
        raise Problem("bad-field", "Say where to send it, such as http://127.0.0.1:8000.", field="base")
    about = About(failure.issue_id, failure.app, to_text(failure.time_ms), failure.release)
    try:
        if form in ("call", "expects"):
            reproduction: Reproduction = as_test(content, about, expects=form == "expects")
        else:
            reproduction = as_form(content, about, cast(RequestForm, form), base)
    except (NoCall, NoRequest) as why:
        raise Problem("cannot-reproduce", str(why)) from None
    return ReproductionAnswer(
        form=form,
        name=reproduction.name,
        text=reproduction.text,
        missing=[MissingAnswer(name=name, seen=seen) for name, seen in reproduction.missing],
        notes=list(reproduction.notes),
        failure=str(uuid.UUID(bytes=failure.id)),
    )
