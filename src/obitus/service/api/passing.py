"""``/api/targets``: targets, their progress, and what they did not get."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Annotated, Any, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.alerting.wanted import NAME
from obitus.core.asking import MOST_CHARACTERS, QuestionTrouble, read
from obitus.core.clock import to_text
from obitus.core.redaction.rules import RuleTrouble, parse_rules
from obitus.service.api import answers
from obitus.service.api.asked import bad_question
from obitus.service.api.outside import settings_refused
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.passing.base import KINDS, PassedKind
from obitus.service.passing.passing import Passing, ThePassing, checked
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import passing as store
from obitus.store.passing import WantedTarget
from obitus.store.records import Records
from obitus.store.rows.passing import PassingKind, Target

router = Router(
    prefix="/api/targets",
    tags=["passing on"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

MOST_RULES: Final = 50
TargetName = Annotated[str, Path(max_length=60, description="The target's name.")]


class NewTarget(BaseModel):
    """A target to add."""

    model_config = ConfigDict(extra="forbid", strict=True)

    name: str = Field(pattern=f"^{NAME.pattern}$", description="Small letters, digits and dashes.")
    kind: PassingKind
    settings: dict[str, str | int] = Field(
        default_factory=dict,
        max_length=20,
        description="File: `path`, `roll_mb`, `roll_hours`, `files`. Syslog: `host`, `port`, `by` (udp, tcp, tls), `facility`. OTLP and "
        "webhook: `url`.",
    )
    secrets: dict[str, str | dict[str, str]] | None = Field(
        default=None, max_length=5, description="`headers`; of a webhook, `secret` to sign with."
    )
    passes: list[PassedKind] = Field(default_factory=lambda: list(KINDS), min_length=1, max_length=len(KINDS))
    question: str = Field(
        default="", max_length=MOST_CHARACTERS, description="Only failures, logs and runs that it means; '' for all."
    )
    hides: list[Annotated[str, Field(max_length=300)]] = Field(
        default_factory=list, max_length=MOST_RULES, description="Redaction rules of its own."
    )


class TargetAnswer(BaseModel):
    """A target, and its progress."""

    name: str
    kind: PassingKind
    settings: dict[str, Any]
    has_secrets: bool
    passes: list[str]
    question: str
    hides: list[str]
    passed: int = Field(description="Records that it took.")
    refused: int = Field(description="Records that it refused.")
    lost: int = Field(description="Reports that were older than seven days, or gone, before it took them.")
    lag: int = Field(description="Reports that were not offered to it yet.")
    latest: answers.Time | None = Field(description="When it took something last.")
    trouble: str = Field(description="Why it accepts nothing, or what it refused last; '' where all is well.")
    trouble_since: answers.Time | None
    made_by: str
    created: answers.Time
    allowed: str = Field(description="Why the owner of the machine has to allow it first, '' where it is allowed.")


class TargetsAnswer(BaseModel):
    """All targets, by name."""

    targets: list[TargetAnswer]


@router.get("", summary="Targets")
def targets(records: TheRecords, passing: ThePassing) -> TargetsAnswer:
    """Return the targets and their progress."""
    return TargetsAnswer(targets=[_answer(records, passing, row) for row in store.targets(records.reader)])


@router.post(
    "",
    status_code=201,
    summary="Pass records on",
    responses=described("already-there", "too-many", "bad-question", "bad-rule"),
)
def add(
    records: TheRecords, clock: TheClock, acts: TheActs, passing: ThePassing, person: SignedIn, order: NewTarget
) -> TargetAnswer:
    """Pass on new records, in order; a target that was away gets later what it missed, for up to seven days."""
    wanted = _wanted(order, passing, clock.now_ms())
    places, events_to = store.start(records.reader, records.days)
    acts.do(
        person.id,
        "added target",
        order.name,
        lambda c: store.add(c, _sealed(wanted, order, passing), person.id, places, events_to, clock.now_ms()),
    )
    passing.refresh()
    return _answer(records, passing, store.named(records.reader, order.name))


@router.delete("/{name}", summary="Remove a target", responses=described("not-found"))
def remove(clock: TheClock, acts: TheActs, passing: ThePassing, person: SignedIn, name: TargetName) -> answers.Done:
    """Remove a target with its secrets. Records that it has stay there."""
    acts.do(person.id, "removed target", name, lambda c: store.remove(c, name, clock.now_ms()))
    passing.refresh()
    return answers.Done()


@router.post("/{name}/try-now", summary="Try a target at once", responses=described("not-found"))
def try_now(acts: TheActs, passing: ThePassing, person: SignedIn, name: TargetName) -> answers.Done:
    """Try a failing target again, without waiting for its pause to end."""
    acts.do(person.id, "tried target", name, lambda c: store.try_now(c, name))
    passing.wake(name)
    return answers.Done()


def _wanted(order: NewTarget, passing: Passing, now_ms: int) -> WantedTarget:
    with settings_refused():
        settings = checked(order.kind, dict(order.settings), dict(order.secrets or {}))
        if order.kind == "webhook":
            passing.asker.check(settings["url"])
    try:
        if order.question:
            read(order.question, now_ms)
        parse_rules(order.hides)
    except QuestionTrouble as trouble:
        raise bad_question(trouble) from None
    except RuleTrouble as trouble:
        raise Problem("bad-rule", str(trouble), field="hides") from None
    return WantedTarget(
        order.name,
        order.kind,
        json.dumps(settings),
        None,
        list(dict.fromkeys(order.passes)),
        order.question.strip(),
        order.hides,
    )


def _sealed(wanted: WantedTarget, order: NewTarget, passing: Passing) -> WantedTarget:
    """Return a target with its secrets encrypted. Call it on the writer."""
    if order.secrets is None:
        return wanted
    return replace(wanted, secrets=passing.seal.seal(f"target {wanted.name}", order.secrets))


def _answer(records: Records, passing: Passing, row: Target) -> TargetAnswer:
    settings = json.loads(row.settings)
    return TargetAnswer(
        name=row.name,
        kind=row.kind,
        settings=settings,
        has_secrets=row.secrets is not None,
        passes=json.loads(row.passes),
        question=row.question,
        hides=json.loads(row.hides),
        passed=row.passed,
        refused=row.refused,
        lost=row.lost,
        lag=store.lag(records.reader, records.days, row.id),
        latest=None if row.passed_ms is None else to_text(row.passed_ms),
        trouble=row.trouble,
        trouble_since=None if row.trouble_ms is None else to_text(row.trouble_ms),
        made_by=row.made_by,
        created=to_text(row.created_ms),
        allowed=passing.why_not(row),
    )
