"""``/api/redaction-rules``: redaction rules in addition to the default ones, with a preview."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Annotated, Any, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.redaction import Redactor
from obitus.core.redaction.rules import MOST_RULES, Rule, RuleTrouble, parse_rule
from obitus.service.api import answers, app_answers
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.intake.intake import TheIntake
from obitus.service.intake.linear_patterns import compiled
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import rules as store

router = Router(
    prefix="/api/redaction-rules",
    tags=["rules"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

REPORTS_LOOKED_AT: Final = 300
MOST_EXAMPLES: Final = 8


class RuleOrder(BaseModel):
    """A redaction rule."""

    model_config = ConfigDict(extra="forbid")

    rule: str = Field(
        min_length=1,
        max_length=300,
        description="`name vessel pin`, `pattern SK-[0-9]{4} as booking`, `path request.body.json.card`, or `e-mail`.",
    )


@router.get("", summary="Active redaction rules")
def redaction_rules(records: TheRecords) -> app_answers.RedactionRulesAnswer:
    """Return the team's redaction rules. The default rules always apply."""
    return app_answers.RedactionRulesAnswer(
        rules=[
            app_answers.RedactionRuleAnswer(
                id=row.id, rule=row.rule, person=row.person, created=to_text(row.created_ms)
            )
            for row in store.REDACTION.active(records.reader)
        ]
    )


@router.post("/preview", summary="What a redaction rule would hide", responses=described("bad-rule"))
def preview(records: TheRecords, order: RuleOrder) -> app_answers.RedactionPreview:
    """Preview what a rule would have hidden in the latest reports."""
    rule = _checked(order.rule)
    redactor = Redactor((rule,), compiled)
    touched, hidden = 0, 0
    examples: list[app_answers.RedactionExample] = []
    looked_at = store.latest_reports(records.days, REPORTS_LOOKED_AT)
    for before in records.evidence.contents(looked_at):
        if before is None:
            continue
        after = redactor.report(json.loads(json.dumps(before)))
        changed = list(_changes(before, after, ""))
        touched += bool(changed)
        hidden += len(changed)
        for place, was, became in changed:
            if len(examples) < MOST_EXAMPLES and not any(one.place == place for one in examples):
                examples.append(app_answers.RedactionExample(place=place, before=was[:200], after=became[:200]))
    return app_answers.RedactionPreview(
        rule=rule.text,
        reports_looked_at=len(looked_at),
        reports_touched=touched,
        values_hidden=hidden,
        examples=examples,
    )


@router.post("", summary="Use a redaction rule", status_code=201, responses=described("bad-rule", "already-there"))
def add(
    records: TheRecords, clock: TheClock, acts: TheActs, intake: TheIntake, person: SignedIn, order: RuleOrder
) -> app_answers.RedactionRuleAnswer:
    """Hide by a rule from now on, in every new report. Stored reports stay as they are."""
    rule = _checked(order.rule)
    if len(store.REDACTION.active(records.reader)) >= MOST_RULES:
        raise Problem("bad-rule", f"There are {MOST_RULES} redaction rules already. End one first.", field="rule")
    now_ms = clock.now_ms()
    rule_id = acts.do(
        person.id, "made redaction rule", rule.text, lambda c: store.REDACTION.add(c, rule.text, person.id, now_ms)
    )
    intake.load_rules()
    return app_answers.RedactionRuleAnswer(id=rule_id, rule=rule.text, person=person.name, created=to_text(now_ms))


@router.delete("/{rule:int}", summary="End a redaction rule", responses=described("not-found"))
def end(
    clock: TheClock, acts: TheActs, intake: TheIntake, person: SignedIn, rule: Annotated[int, Path(ge=1, le=2**62)]
) -> answers.Done:
    """Stop hiding by a rule. Values that it hid stay hidden: they were never stored."""
    now_ms = clock.now_ms()
    acts.do(person.id, "ended redaction rule", str, lambda c: store.REDACTION.end(c, rule, now_ms))
    intake.load_rules()
    return answers.Done()


def _checked(text: str) -> Rule:
    try:
        rule = parse_rule(text)
        if rule.by == "pattern":
            compiled(rule.what)
    except RuleTrouble as trouble:
        raise Problem("bad-rule", str(trouble), field="rule") from None
    return rule


def _changes(before: Any, after: Any, place: str) -> Iterator[tuple[str, str, str]]:
    """Yield the differences of two values of the same shape: the path, the old and the new value."""
    if isinstance(before, dict) and isinstance(after, dict):
        for key, value in before.items():
            if key in after:
                yield from _changes(value, after[key], f"{place}.{key}" if place else str(key))
    elif isinstance(before, list) and isinstance(after, list):
        for was, becomes in zip(before, after, strict=False):
            yield from _changes(was, becomes, place)
    elif before != after:
        yield place, str(before), str(after)
