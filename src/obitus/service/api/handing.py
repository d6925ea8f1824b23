"""``/api/handing-rules``, ``/api/apps/…/owners``, ``/api/owner-names``: handing over unassigned issues; each with a preview."""

from __future__ import annotations

from collections import Counter
from typing import Annotated, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from obitus.core.clock import to_text
from obitus.core.handing_over.owners import MOST_BYTES, Owners, read_owners
from obitus.core.handing_over.rules import (
    MOST_CHARACTERS,
    MOST_RULES,
    HandingRule,
    HandingRuleTrouble,
    parse_handing_rule,
)
from obitus.service.api import answers, views
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.jobs.who_takes import Takers, active_rules, read_once
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import apps, team
from obitus.store import handing as store
from obitus.store.records import Records
from obitus.store.rows.issues import Issue
from obitus.store.rules import HANDING

router = Router(
    prefix="/api",
    tags=["hand over"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

LOOKED_AT: Final = 200
"""The number of latest open issues without a person in a preview."""
MOST_OWNERS: Final = 200
AppName = Annotated[str, Path(max_length=100, description="The app's name.")]


class HandingRuleOrder(BaseModel):
    """A hand-over rule."""

    model_config = ConfigDict(extra="forbid", strict=True)

    rule: str = Field(
        min_length=1,
        max_length=MOST_CHARACTERS,
        description="`hand to Ida Moss when app=sailings module~fares`: a person, and which issues. Asked are `app`, `environment`, "
        "`type`, `cause`, `message`, `module`, `function`, `file`, `entry_point` and attributes.",
    )


class HandingRuleAnswer(BaseModel):
    """An active rule."""

    id: int
    rule: str
    to: str
    person: str = Field(description="Who made it.")
    created: answers.Time
    trouble: str = Field(description="Why it hands nothing over at present, '' where it does.")


class HandingRulesAnswer(BaseModel):
    """The active rules; of several that match the first counts."""

    rules: list[HandingRuleAnswer]


class WouldHand(BaseModel):
    """An issue that would be handed over."""

    number: int
    title: str
    to: str
    why: str


class HandingPreview(BaseModel):
    """The preview of handing over open unassigned issues."""

    looked_at: int = Field(description="Open unassigned issues, the latest ones.")
    would_hand: list[WouldHand]
    trouble: str = Field(description="Why nothing would be handed over, '' where there is no reason.")


class OwnersOrder(BaseModel):
    """A CODEOWNERS file, as in the repository."""

    model_config = ConfigDict(extra="forbid", strict=True)

    text: Annotated[str, Field(max_length=MOST_BYTES, description="The whole text of CODEOWNERS.")]
    beneath: Annotated[
        str,
        Field(default="", max_length=300, description="The folder of the repository that the app's paths begin in."),
    ] = ""


class OwnerAnswer(BaseModel):
    """An owner in a file."""

    owner: str
    person: str | None = Field(description="The person; null where none is named, and it hands issues to nobody.")
    lines: int


class OwnersAnswer(BaseModel):
    """The CODEOWNERS of an app."""

    app: str
    kept: bool
    beneath: str
    lines: int = Field(description="Lines that were understood.")
    remarks: list[str] = Field(description="Lines that were left out, and why.")
    owners: list[OwnerAnswer] = Field(description="Those that are named most often first.")
    person: str | None = Field(description="Who kept it.")
    changed: answers.Time | None
    preview: HandingPreview | None = None


class OwnerNameOrder(BaseModel):
    """The person for an owner's name."""

    model_config = ConfigDict(extra="forbid", strict=True)

    owner: Annotated[str, StringConstraints(strip_whitespace=True, min_length=2, max_length=200)] = Field(
        description="As it is written in the file: `@skerry/fares`."
    )
    person: str | None = Field(max_length=60, description="The name of one of the people; null for nobody.")


@router.get("/handing-rules", summary="Hand-over rules")
def rules(records: TheRecords) -> HandingRulesAnswer:
    """Return the active rules."""
    people = set(store.people(records.reader))
    rows = []
    for row in HANDING.active(records.reader):
        rule = _checked(row.rule)
        trouble = "" if rule.to in people else f"{rule.to} is not here any more: the next rule decides."
        rows.append(
            HandingRuleAnswer(
                id=row.id,
                rule=row.rule,
                to=rule.to,
                person=row.person,
                created=to_text(row.created_ms),
                trouble=trouble,
            )
        )
    return HandingRulesAnswer(rules=rows)


@router.post("/handing-rules/preview", summary="What a hand-over rule would do", responses=described("bad-rule"))
def preview(records: TheRecords, order: HandingRuleOrder) -> HandingPreview:
    """Preview which open unassigned issues a rule would give to whom."""
    rule = _checked(order.rule)
    return _preview(records, Takers(records, [rule]), _somebody(records, rule))


@router.post(
    "/handing-rules", summary="Use a hand-over rule", status_code=201, responses=described("bad-rule", "already-there")
)
def add(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, order: HandingRuleOrder
) -> HandingRuleAnswer:
    """Hand over by a rule from now on: new, regressed and reopened issues that match it and that nobody has."""
    rule = _checked(order.rule)
    if trouble := _somebody(records, rule):
        raise Problem("bad-rule", trouble, field="rule")
    if len(active_rules(records)) >= MOST_RULES:
        raise Problem("bad-rule", f"There are {MOST_RULES} hand-over rules already. End one first.", field="rule")
    now_ms = clock.now_ms()
    number = acts.do(
        person.id, "made hand-over rule", rule.text, lambda c: HANDING.add(c, rule.text, person.id, now_ms)
    )
    return HandingRuleAnswer(
        id=number, rule=rule.text, to=rule.to, person=person.name, created=to_text(now_ms), trouble=""
    )


@router.delete("/handing-rules/{rule:int}", summary="End a hand-over rule", responses=described("not-found"))
def end(clock: TheClock, acts: TheActs, person: SignedIn, rule: Annotated[int, Path(ge=1, le=2**62)]) -> answers.Done:
    """Stop a rule; issues that it handed over stay where they are."""
    now_ms = clock.now_ms()
    acts.do(person.id, "ended hand-over rule", str, lambda c: HANDING.end(c, rule, now_ms))
    return answers.Done()


class HandedAnswer(BaseModel):
    """The issues that were handed over."""

    handed: list[WouldHand]


@router.post("/handing-rules/apply", summary="Hand over unassigned issues")
def apply(records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn) -> HandedAnswer:
    """Hand over the latest open unassigned issues, by the rules and CODEOWNERS."""
    known, handed, now_ms = Takers(records), [], clock.now_ms()
    for issue in store.unheld(records.reader, LOOKED_AT):
        takers = known.of(issue)
        name = records.writer.run(lambda c, i=issue, f=takers: store.hand(c, i.id, f, now_ms)) if takers else None  # type: ignore[misc]
        if name is not None:
            handed.append(_would_hand(issue, next(one for one in takers if one[0] == name)))
    acts.do(person.id, "handed over by rule", f"{len(handed)} issues", lambda _: None)
    return HandedAnswer(handed=handed)


@router.get("/apps/{name}/owners", summary="Who owns which files of an app", responses=described("not-found"))
def owners(records: TheRecords, name: AppName) -> OwnersAnswer:
    """Return an app's CODEOWNERS, and the people for the names in it."""
    row = store.owner_file(records.reader, apps.app_named(records.reader, name).id)
    if row is None:
        return OwnersAnswer(app=name, kept=False, beneath="", lines=0, remarks=[], owners=[], person=None, changed=None)
    answer = _owners_answer(records, name, read_once(row), row.beneath)
    answer.kept, answer.person, answer.changed = True, row.person, to_text(row.changed_ms)
    return answer


@router.post("/apps/{name}/owners/preview", summary="What a CODEOWNERS file would do", responses=described("not-found"))
def preview_owners(records: TheRecords, name: AppName, order: OwnersOrder) -> OwnersAnswer:
    """Preview a file: the people for the names in it, and which open issues of the app would go to whom."""
    app_id, read = apps.app_named(records.reader, name).id, read_owners(order.text)
    answer = _owners_answer(records, name, read, order.beneath)
    takers = Takers(records, [])
    takers.use_file(app_id, read, order.beneath)
    answer.preview = _preview(records, takers, "", app_id)
    return answer


@router.put("/apps/{name}/owners", summary="Store who owns which files", responses=described("not-found"))
def keep_owners(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, name: AppName, order: OwnersOrder
) -> OwnersAnswer:
    """Store an app's CODEOWNERS, in place of the one before; it is used where no rule matches."""
    app_id, now_ms = apps.app_named(records.reader, name).id, clock.now_ms()
    acts.do(
        person.id,
        "kept owners",
        name,
        lambda c: store.keep_file(c, app_id, order.text, order.beneath.strip(), person.id, now_ms),
    )
    return owners(records, name)


@router.delete("/apps/{name}/owners", summary="Remove who owns which files", responses=described("not-found"))
def remove_owners(records: TheRecords, acts: TheActs, person: SignedIn, name: AppName) -> answers.Done:
    """Remove an app's CODEOWNERS."""
    app_id = apps.app_named(records.reader, name).id
    acts.do(person.id, "removed owners", name, lambda c: store.remove_file(c, app_id))
    return answers.Done()


@router.post("/owner-names", summary="Set the person for an owner's name", responses=described("not-found", "too-many"))
def say_owner(records: TheRecords, acts: TheActs, person: SignedIn, order: OwnerNameOrder) -> answers.Done:
    """Set the person for a name in CODEOWNERS, such as a team's name."""
    if order.person is None:
        acts.do(person.id, "forgot owner", order.owner, lambda c: store.remove_name(c, order.owner))
    else:
        meant = order.person
        acts.do(person.id, "said owner", f"{order.owner} is {meant}", lambda c: store.keep_name(c, order.owner, meant))
    return answers.Done()


def _checked(text: str) -> HandingRule:
    try:
        return parse_handing_rule(text)
    except HandingRuleTrouble as trouble:
        raise Problem("bad-rule", str(trouble), field="rule") from None


def _somebody(records: Records, rule: HandingRule) -> str:
    """Return why a rule can hand nothing over, '' where it can."""
    role = next((one.role for one in team.everybody(records.reader) if one.name == rule.to), None)
    if role is None:
        return f"Nobody here is named {rule.to!r}. Name one of the people in Set-up."
    return f"{rule.to} is a reader, who decides nothing." if role == "reader" else ""


def _preview(records: Records, takers: Takers, trouble: str, app_id: int | None = None) -> HandingPreview:
    issues = [row for row in store.unheld(records.reader, LOOKED_AT) if app_id is None or row.app_id == app_id]
    would = [] if trouble else [_would_hand(issue, first) for issue in issues for first in takers.of(issue)[:1]]
    return HandingPreview(looked_at=len(issues), would_hand=would, trouble=trouble)


def _would_hand(issue: Issue, taker: tuple[str, str]) -> WouldHand:
    return WouldHand(number=issue.id, title=views.title_of(issue), to=taker[0], why=taker[1])


def _owners_answer(records: Records, app: str, owners: Owners, beneath: str) -> OwnersAnswer:
    counts = Counter(owner for line in owners.lines for owner in line.owners)
    known = Takers(records, [])
    most = sorted(counts, key=lambda owner: (-counts[owner], owner))[:MOST_OWNERS]
    return OwnersAnswer(
        app=app,
        kept=False,
        beneath=beneath,
        lines=len(owners.lines),
        remarks=list(owners.remarks),
        owners=[OwnerAnswer(owner=owner, person=known.meant_by(owner), lines=counts[owner]) for owner in most],
        person=None,
        changed=None,
    )
