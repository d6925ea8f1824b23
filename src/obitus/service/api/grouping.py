"""``/api``: why failures are one issue and what may be the same; merge, split, grouping rules; each with a preview."""

from __future__ import annotations

from typing import Annotated, Any, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.grouping.likeness import compare
from obitus.core.grouping.rules import GroupingRule, GroupingRuleTrouble, parse_grouping_rule
from obitus.service.api import answers, grouping_answers, issue_answers, views
from obitus.service.api.issues import Number
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.intake.intake import TheIntake
from obitus.service.jobs.planning import MOST_LOOKED_AT, Group, Plan, ThePlanner, joins_of, parts_of
from obitus.service.jobs.regrouping_orders import TheRegroupingOrders
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import apps
from obitus.store import grouping as store
from obitus.store import issues as store_issues
from obitus.store import regrouping as store_regrouping
from obitus.store import rules as store_rules
from obitus.store.records import Records
from obitus.store.rows.grouping import Regrouping
from obitus.store.rows.issues import Issue

router = Router(
    prefix="/api",
    tags=["grouping"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "not-found", "store-broken"),
)
MOST_RULES: Final = 100
MOST_LISTED: Final = 50


class MergeOrder(BaseModel):
    """Which issue another one is merged into."""

    model_config = ConfigDict(extra="forbid")

    into: int = Field(ge=1, le=2**62, description="The number of the issue that stays.")


class SplitOrder(BaseModel):
    """How an issue is split: by attributes, or by taking fingerprints out."""

    model_config = ConfigDict(extra="forbid")

    by: list[Annotated[str, Field(min_length=1, max_length=100)]] = Field(
        default=[],
        max_length=5,
        description="Attributes, or `message`, `caller`, `line`: each set of values is an issue.",
    )
    fingerprints: list[Annotated[str, Field(min_length=3, max_length=100)]] = Field(
        default=[], max_length=50, description="Fingerprints that become an issue of their own."
    )


class NeverOrder(BaseModel):
    """From which issue another one is kept apart."""

    model_config = ConfigDict(extra="forbid")

    other: int = Field(ge=1, le=2**62)


class GroupingRuleOrder(BaseModel):
    """A grouping rule."""

    model_config = ConfigDict(extra="forbid")

    rule: str = Field(
        min_length=1,
        max_length=1000,
        description="`together when CONDITION`, `apart by user.id when CONDITION`, `skip frames */wrappers.py`.",
    )


class RegroupOrder(BaseModel):
    """Whose past failures are regrouped."""

    model_config = ConfigDict(extra="forbid")

    app: str = Field(min_length=1, max_length=100)


@router.get("/issues/{number}/perhaps", summary="Issues that may be the same fault")
def perhaps(records: TheRecords, number: Number) -> issue_answers.LikesAnswer:
    """Return the nearest other issues, with similarities and differences."""
    store_issues.issue(records.reader, number)
    pairs = []
    for issue, reason in store.perhaps(records.reader, number):
        row = store_issues.issue(records.reader, issue)
        if row.merged_into is None:
            pairs.append(
                issue_answers.LikeAnswer(
                    number=issue,
                    title=views.title_of(row),
                    state=row.state,
                    failures_in_all=row.failures_in_all,
                    reason=reason,
                )
            )
    return issue_answers.LikesAnswer(perhaps=pairs, never=store.never_with(records.reader, number))


@router.post("/issues/{number}/merge/preview", summary="What merging would make", responses=described("bad-merge"))
def merge_preview(records: TheRecords, number: Number, order: MergeOrder) -> grouping_answers.MergePreview:
    """Preview merging an issue into another one."""
    issue, into = _both(records, number, order.into)
    return grouping_answers.MergePreview(
        issue=number,
        into=order.into,
        failures=issue.failures_in_all,
        failures_after=issue.failures_in_all + into.failures_in_all,
        reason=_in_common(records, number, order.into),
        first_seen=to_text(min(issue.first_ms, into.first_ms)),
        last_seen=to_text(max(issue.last_ms, into.last_ms)),
        state=into.state,
    )


@router.post(
    "/issues/{number}/merge",
    summary="Merge an issue into another",
    status_code=202,
    responses=described("bad-merge", "foreign-origin"),
)
def merge(
    records: TheRecords, orders: TheRegroupingOrders, person: SignedIn, number: Number, order: MergeOrder
) -> grouping_answers.RegroupingAnswer:
    """Move all failures of an issue to another; later failures with its fingerprints go there too. Can be undone."""
    issue, into = _both(records, number, order.into)
    return _regrouping(records, orders.merge(issue, into, person.id, person.name))


@router.post("/issues/{number}/split/preview", summary="What splitting would make", responses=described("bad-split"))
def split_preview(
    records: TheRecords, planner: ThePlanner, number: Number, order: SplitOrder
) -> grouping_answers.SplitPreview:
    """Preview which issues a split would make of the latest failures."""
    issue = store_issues.issue(records.reader, number)
    _check_split(records, issue, order)
    parts: list[grouping_answers.SplitPart] = []
    if order.by:
        values = planner.split_values(issue, order.by)
        for value, seqs in sorted(values.items(), key=lambda part: (-len(part[1]), part[0]))[:MOST_LISTED]:
            parts.append(_part(records, " / ".join(value), seqs, []))
        return grouping_answers.SplitPreview(issue=number, looked_at=sum(map(len, values.values())), parts=parts)
    seqs = store_regrouping.seqs_of(records.reader, number, 0, MOST_LOOKED_AT)
    came_by = store_issues.fingerprints_of_failures(records.reader, seqs)
    out = [seq for seq in seqs if came_by[seq] in order.fingerprints]
    stays = [seq for seq in seqs if came_by[seq] not in order.fingerprints]
    known = [row.fingerprint for row in store_regrouping.fingerprints_of(records.reader, number)]
    parts = [
        _part(records, "stays", stays, [f for f in known if f not in order.fingerprints]),
        _part(records, "new issue", out, order.fingerprints),
    ]
    return grouping_answers.SplitPreview(issue=number, looked_at=len(seqs), parts=parts)


@router.post(
    "/issues/{number}/split",
    summary="Split an issue",
    status_code=202,
    responses=described("bad-split", "foreign-origin"),
)
def split(
    records: TheRecords, orders: TheRegroupingOrders, person: SignedIn, number: Number, order: SplitOrder
) -> grouping_answers.RegroupingAnswer:
    """Split an issue, for past and new failures. Can be undone."""
    issue = store_issues.issue(records.reader, number)
    _check_split(records, issue, order)
    return _regrouping(records, orders.split(issue, order.by, order.fingerprints, person.id, person.name))


@router.post(
    "/issues/{number}/never-together",
    summary="Keep two issues apart",
    responses=described("bad-merge", "foreign-origin"),
)
def never_together(
    records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: NeverOrder
) -> answers.Done:
    """Keep two issues apart: no longer suggest merging them, and keep them apart when history is regrouped."""
    _both(records, number, order.other)
    now_ms = clock.now_ms()

    def act(connection: Any) -> None:
        store.add_never(connection, number, order.other, person.id, now_ms)
        for from_issue, to_issue in ((number, order.other), (order.other, number)):
            store_issues.note(
                connection, from_issue, person.id, f"{person.name} keeps it apart from issue {to_issue}.", now_ms
            )

    records.writer.run(act)
    return answers.Done()


@router.get("/grouping-rules", summary="Active grouping rules")
def grouping_rules(records: TheRecords) -> grouping_answers.GroupingRulesAnswer:
    """Return the team's grouping rules."""
    return grouping_answers.GroupingRulesAnswer(
        rules=[
            grouping_answers.GroupingRuleAnswer(
                id=row.id, rule=row.rule, person=row.person, created=to_text(row.created_ms)
            )
            for row in store_rules.GROUPING.active(records.reader)
        ]
    )


@router.post("/grouping-rules/preview", summary="What a grouping rule would do", responses=described("bad-rule"))
def rule_preview(
    records: TheRecords, intake: TheIntake, planner: ThePlanner, order: GroupingRuleOrder
) -> grouping_answers.RegroupPreview:
    """Preview which issues a rule would join or split, on the latest failures of each app."""
    rule = _checked(order.rule)
    rules = [*intake.preparer.rules, rule]
    answer = grouping_answers.RegroupPreview(looked_at=0, matching=0, moving=0, joining=[], parting=[])
    for app in apps.apps(records.reader):
        now = planner.plan(app.id, app.name)
        then = planner.plan(app.id, app.name, rules)
        answer.matching += then.matching
        _add(answer, then, {_look(group) for group in now.groups})
    return answer


@router.post(
    "/grouping-rules",
    summary="Use a grouping rule",
    status_code=201,
    responses=described("bad-rule", "already-there", "foreign-origin"),
)
def add_rule(
    records: TheRecords, clock: TheClock, acts: TheActs, intake: TheIntake, person: SignedIn, order: GroupingRuleOrder
) -> grouping_answers.GroupingRuleAnswer:
    """Group by a rule from now on. Past failures stay where they are until history is regrouped."""
    rule = _checked(order.rule)
    if len(store_rules.GROUPING.active(records.reader)) >= MOST_RULES:
        raise Problem("bad-rule", f"There are {MOST_RULES} grouping rules already. End one first.", field="rule")
    now_ms = clock.now_ms()
    rule_id = acts.do(
        person.id,
        "made grouping rule",
        rule.text,
        lambda c: store_rules.GROUPING.add(c, rule.text, person.id, now_ms),
    )
    intake.load_rules()
    return grouping_answers.GroupingRuleAnswer(id=rule_id, rule=rule.text, person=person.name, created=to_text(now_ms))


@router.delete("/grouping-rules/{rule:int}", summary="End a grouping rule", responses=described("foreign-origin"))
def end_rule(
    clock: TheClock, acts: TheActs, intake: TheIntake, person: SignedIn, rule: Annotated[int, Path(ge=1, le=2**62)]
) -> answers.Done:
    """Group without a rule from now on."""
    now_ms = clock.now_ms()
    acts.do(person.id, "ended grouping rule", str, lambda c: store_rules.GROUPING.end(c, rule, now_ms))
    intake.load_rules()
    return answers.Done()


@router.post("/regroupings/preview", summary="What regrouping past failures would do")
def regroup_preview(records: TheRecords, planner: ThePlanner, order: RegroupOrder) -> grouping_answers.RegroupPreview:
    """Preview which issues of an app would be joined or split by regrouping its latest failures."""
    app = apps.app_named(records.reader, order.app)
    answer = grouping_answers.RegroupPreview(looked_at=0, matching=0, moving=0, joining=[], parting=[])
    _add(answer, planner.plan(app.id, app.name), set())
    answer.matching = answer.looked_at
    return answer


@router.post(
    "/regroupings", summary="Regroup an app's past failures", status_code=202, responses=described("foreign-origin")
)
def regroup(
    records: TheRecords, orders: TheRegroupingOrders, person: SignedIn, order: RegroupOrder
) -> grouping_answers.RegroupingAnswer:
    """Group all failures of an app by the recipe and the active rules. Shows progress, and can be undone."""
    app = apps.app_named(records.reader, order.app)
    return _regrouping(records, orders.regroup(app.id, app.name, person.id, person.name))


@router.get("/regroupings", summary="Merges, splits and regroupings")
def regroupings(records: TheRecords) -> grouping_answers.RegroupingsAnswer:
    """Return the latest, newest first."""
    rows = store_regrouping.regroupings(records.reader, MOST_LISTED)
    return grouping_answers.RegroupingsAnswer(regroupings=[_regrouping_answer(row) for row in rows])


@router.get("/regroupings/{regrouping:int}", summary="One regrouping, with its progress")
def regrouping(
    records: TheRecords, regrouping: Annotated[int, Path(ge=1, le=2**62)]
) -> grouping_answers.RegroupingAnswer:
    """Return the progress of a regrouping."""
    return _regrouping(records, regrouping)


@router.post(
    "/regroupings/{regrouping:int}/undo",
    summary="Undo a regrouping",
    status_code=202,
    responses=described("bad-undo", "foreign-origin"),
)
def undo(
    records: TheRecords, orders: TheRegroupingOrders, person: SignedIn, regrouping: Annotated[int, Path(ge=1, le=2**62)]
) -> grouping_answers.RegroupingAnswer:
    """Undo a regrouping: move its failures back, and later ones with its fingerprints."""
    row = store_regrouping.regrouping(records.reader, regrouping)
    if row.state not in ("done", "failed"):
        raise Problem(
            "bad-undo", f"Regrouping {regrouping} is {row.state}; only one that is done or failed can be undone."
        )
    orders.undo(regrouping, person.id, person.name)
    return _regrouping(records, regrouping)


def _both(records: Records, number: int, other: int) -> tuple[Issue, Issue]:
    if number == other:
        raise Problem("bad-merge", "An issue is one with itself already. Name another one.")
    issue, into = store_issues.issue(records.reader, number), store_issues.issue(records.reader, other)
    if issue.app_id != into.app_id:
        raise Problem(
            "bad-merge",
            f"Issue {number} is of {issue.app}, issue {other} of {into.app}; issues are merged within one app.",
        )
    for row in (issue, into):
        if row.merged_into is not None:
            raise Problem("bad-merge", f"Issue {row.id} was merged into issue {row.merged_into}. Name that one.")
    if other in store.never_with(records.reader, number):
        raise Problem("bad-merge", f"Somebody said that issues {number} and {other} stay apart.")
    return issue, into


def _check_split(records: Records, issue: Issue, order: SplitOrder) -> None:
    if bool(order.by) == bool(order.fingerprints):
        raise Problem("bad-split", "Say either `by` which attributes, or which `fingerprints` are taken out.")
    if issue.merged_into is not None:
        raise Problem(
            "bad-split",
            f"Issue {issue.id} was merged into issue {issue.merged_into}. Undo that, or split that one.",
        )
    if order.fingerprints:
        fingerprints = {row.fingerprint for row in store_regrouping.fingerprints_of(records.reader, issue.id)}
        unknown = [f for f in order.fingerprints if f not in fingerprints]
        if unknown:
            raise Problem(
                "bad-split",
                f"{unknown[0]} does not lead to issue {issue.id}. `obitus why {issue.id}` lists those that do.",
            )
        if fingerprints <= set(order.fingerprints):
            raise Problem(
                "bad-split", "These are all its fingerprints: nothing would stay. Leave one, or split by an attribute."
            )


def _in_common(records: Records, number: int, other: int) -> str:
    best = (-1.0, "Nothing that is kept of them is alike; merging them is your word alone.")
    for mine in store.traits_of(records.reader, number):
        for theirs in store.traits_of(records.reader, other):
            verdict = compare(mine, theirs)
            strength = verdict.strength + (verdict.kind == "same")
            if verdict.reason and strength > best[0]:
                best = (strength, verdict.reason[0].upper() + verdict.reason[1:] + ".")
    return best[1]


def _part(records: Records, value: str, seqs: list[int], fingerprints: list[str]) -> grouping_answers.SplitPart:
    message = str(store_issues.failure_with_seq(records.reader, seqs[-1]).message)[:200] if seqs else ""
    return grouping_answers.SplitPart(value=value[:300], failures=len(seqs), message=message, fingerprints=fingerprints)


def _checked(text: str) -> GroupingRule:
    try:
        return parse_grouping_rule(text)
    except GroupingRuleTrouble as trouble:
        raise Problem("bad-rule", str(trouble), field="rule") from None


def _look(group: Group) -> frozenset[tuple[int, int]]:
    return frozenset(group.by_issue.items())


def _add(answer: grouping_answers.RegroupPreview, plan: Plan, known: set[frozenset[tuple[int, int]]]) -> None:
    """Add a plan to a preview, without changes that would happen without the rule too."""
    answer.looked_at += plan.looked_at
    changed = [place for place, group in enumerate(plan.groups) if _look(group) not in known]
    plan = Plan([plan.groups[i] for i in changed], plan.looked_at, [plan.target[i] for i in changed])
    answer.moving += plan.moving
    for group, target in joins_of(plan):
        answer.joining.append(
            grouping_answers.JoiningAnswer(
                issues=sorted(group.by_issue),
                into=target,
                failures=sum(group.by_issue.values()),
                example=_example(group),
            )
        )
    for issue, groups in parts_of(plan).items():
        answer.parting.append(
            grouping_answers.PartingAnswer(issue=issue, into=[_example(group) for group in groups[:MOST_LISTED]])
        )


def _example(group: Group) -> grouping_answers.GroupExample:
    title = group.headline.title if group.headline else ""
    return grouping_answers.GroupExample(title=title, failures=sum(group.by_issue.values()), message=group.message)


def _regrouping(records: Records, number: int) -> grouping_answers.RegroupingAnswer:
    return _regrouping_answer(store_regrouping.regrouping(records.reader, number))


def _regrouping_answer(row: Regrouping) -> grouping_answers.RegroupingAnswer:
    return grouping_answers.RegroupingAnswer(
        id=row.id,
        kind=row.kind,
        said=row.said,
        person=row.person,
        created=to_text(row.created_ms),
        state=row.state,
        moved=row.moved,
        total=row.total,
        ended=to_text(row.ended_ms) if row.ended_ms is not None else None,
    )
