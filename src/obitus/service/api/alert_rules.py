"""``/api/alert-rules``: alert rules, each with a preview, one by one or from a file."""

from __future__ import annotations

import sqlite3
from typing import Annotated, Final, Literal

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.alerting.conditions import (
    EXAMPLES,
    MOST_CHARACTERS,
    Condition,
    Measured,
    Silent,
    amount_said,
    read_condition,
    sentence,
)
from obitus.core.alerting.over_time import Firing
from obitus.core.alerting.wanted import (
    MOST_AN_HOUR,
    MOST_BYTES,
    NAME,
    RuleChange,
    RuleDefinition,
    WantedTrouble,
    check,
    plan,
    read_file,
)
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.clock import DAY_MS, to_text
from obitus.core.priority import Level
from obitus.core.wording import as_sentence, count_of, minute_of, span
from obitus.service.alerting.active_rules import TheRuleBook
from obitus.service.alerting.previewing import BACK_MS, MOST_SHOWN, Preview, preview_of
from obitus.service.alerting.window_rules import TheWindows, Windows, every_said
from obitus.service.api import answers
from obitus.service.api.asked import bad_question
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store.alerts import channels, firings, rules
from obitus.store.records import Records
from obitus.store.rows.alerts import AlertRule, RuleChannel

router = Router(
    prefix="/api/alert-rules",
    tags=["alerts"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

COUNTED_MS: Final = 14 * DAY_MS
RuleName = Annotated[str, Path(max_length=60, description="The rule's name.")]
When = Annotated[
    str,
    Field(
        min_length=1,
        max_length=MOST_CHARACTERS,
        description=f"What to wait for: see docs/alerts.md. For example: `{EXAMPLES[3]}`.",
    ),
]


class AlertRuleOrder(BaseModel):
    """An alert rule."""

    model_config = ConfigDict(extra="forbid", strict=True)

    when: When
    to: list[Annotated[str, Field(max_length=60)]] = Field(max_length=20, description="Channels that are notified.")
    priority: Level = Field(default="middle", description="High priority goes out in quiet hours too.")
    at_most_an_hour: int = Field(
        default=12, ge=1, le=MOST_AN_HOUR, description="Most messages in an hour; further ones are sent later, as one."
    )
    escalate_to: list[Annotated[str, Field(max_length=60)]] = Field(
        default_factory=list, max_length=20, description="Channels that are notified when nobody accepts in time."
    )
    escalate_after_minutes: int | None = Field(default=None, ge=1, le=24 * 60)


class NewAlertRule(AlertRuleOrder):
    """A rule to use from now on."""

    name: str = Field(pattern=f"^{NAME.pattern}$", description="Small letters, digits and dashes.")


class ConditionOrder(BaseModel):
    """A condition to try."""

    model_config = ConfigDict(extra="forbid", strict=True)

    when: When


class AlertFileOrder(BaseModel):
    """A file of rules."""

    model_config = ConfigDict(extra="forbid", strict=True)

    text: str = Field(max_length=MOST_BYTES, description="The file, TOML with [[alert]] tables.")
    source: str = Field(max_length=200, description="What the file is called; shown with each rule from it.")
    end_others: bool = Field(default=False, description="End the rules that are not in the file.")
    only_plan: bool = Field(default=True, description="Say what would be done, and do nothing.")


class AlertRuleAnswer(BaseModel):
    """An active alert rule."""

    number: int
    name: str
    when: str
    said: str = Field(description="The condition, in words.")
    to: list[str]
    priority: Level
    at_most_an_hour: int
    escalate_to: list[str]
    escalate_after_minutes: int | None
    source: str = Field(description="The file that it comes from, '' for one made by hand.")
    person: str
    changed: answers.Time
    looked_at: str = Field(description="How often it is looked at.")
    cost_ms: float | None = Field(
        description="What a look at it takes on average; null where it was not looked at yet, or is not over a window."
    )
    fired: int = Field(description="Firings of the last 14 days.")
    latest: answers.Time | None
    trouble: str = Field(description="Why it fires nothing, or nobody is notified; '' where all is well.")


class AlertRulesAnswer(BaseModel):
    """The active rules, by name."""

    rules: list[AlertRuleAnswer]


class WouldFire(BaseModel):
    """One firing that a rule would have had."""

    begun: answers.Time
    over: answers.Time | None
    about: str
    value: str
    reason: str


class AlertPreview(BaseModel):
    """The preview of a rule over the last 14 days."""

    said: str = Field(description="The condition, in words.")
    summary: str = Field(description="`Would have fired 3 times in 14 days: …`")
    firings: list[WouldFire] = Field(description="The latest of them, the newest first.")
    in_all: int
    since: answers.Time = Field(description="How far back it could be looked.")
    remark: str
    looked_at: str
    cost_ms: float = Field(description="What one look costs, measured just now.")
    now: str = Field(description="Its message as of now.")


class PlanStep(BaseModel):
    """The change of one rule by a file."""

    name: str
    act: Literal["add", "change", "keep", "end", "leave"]
    said: str


class PlanAnswer(BaseModel):
    """The changes that a file of rules would make, or has made."""

    done: bool
    steps: list[PlanStep]
    summary: str


@router.get("", summary="Alert rules")
def alert_rules(records: TheRecords, clock: TheClock, windows: TheWindows) -> AlertRulesAnswer:
    """Return the active rules, and how often each fired recently."""
    notified, now_ms = rules.channels_of(records.reader), clock.now_ms()
    fired: dict[int, list[int]] = {}
    for row in firings.latest(records.reader, now_ms - COUNTED_MS, now_ms + DAY_MS, most=10_000):
        fired.setdefault(row.rule_id, []).append(row.begun_ms)
    return AlertRulesAnswer(
        rules=[
            _rule(row, notified.get(row.id, []), fired.get(row.id, []), windows, now_ms)
            for row in rules.active(records.reader)
        ]
    )


@router.post(
    "/preview", summary="What an alert rule would have done", responses=described("bad-question", "query-too-long")
)
def preview(records: TheRecords, clock: TheClock, order: ConditionOrder) -> AlertPreview:
    """Return when a rule would have fired in the last 14 days, and what it costs, without keeping it."""
    condition, now_ms = _understood(order.when, clock.now_ms()), clock.now_ms()
    return _preview(condition, preview_of(records, condition, now_ms))


@router.post(
    "",
    status_code=201,
    summary="Use an alert rule",
    responses=described("already-there", "too-many", "not-found", "bad-question"),
)
def add(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    book: TheRuleBook,
    windows: TheWindows,
    person: SignedIn,
    order: NewAlertRule,
) -> AlertRuleAnswer:
    """Use a rule from now on."""
    wanted = _checked(records, order.name, order, clock.now_ms())
    acts.do(person.id, "added alert rule", order.name, lambda c: rules.add(c, wanted, person.id, clock.now_ms()))
    book.changed()
    return _named(records, clock.now_ms(), windows, order.name)


@router.put("/{name}", summary="Change an alert rule", responses=described("not-found", "bad-question"))
def change(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    book: TheRuleBook,
    windows: TheWindows,
    person: SignedIn,
    name: RuleName,
    order: AlertRuleOrder,
) -> AlertRuleAnswer:
    """Change a rule. With another condition it starts again: its firings stay, and are over."""
    wanted = _checked(records, name, order, clock.now_ms())
    acts.do(person.id, "changed alert rule", name, lambda c: rules.change(c, wanted, person.id, clock.now_ms()))
    book.changed()
    return _named(records, clock.now_ms(), windows, name)


@router.delete("/{name}", summary="End an alert rule", responses=described("not-found"))
def end(clock: TheClock, acts: TheActs, book: TheRuleBook, person: SignedIn, name: RuleName) -> answers.Done:
    """Stop a rule. Its firings stay on record."""
    acts.do(person.id, "ended alert rule", name, lambda c: rules.end(c, name, clock.now_ms()))
    book.changed()
    return answers.Done()


@router.post("/apply", summary="Use the rules of a file", responses=described("bad-rule", "too-many"))
def apply(
    records: TheRecords, clock: TheClock, acts: TheActs, book: TheRuleBook, person: SignedIn, order: AlertFileOrder
) -> PlanAnswer:
    """Return the changes of a file of rules, and make them unless only the plan is requested. All changes are made, or none."""
    now_ms = clock.now_ms()
    try:
        definitions = read_file(order.text, order.source)
        names = [channel.name for channel in channels.channels(records.reader)]
        for definition in definitions:
            _check_of_file(definition, now_ms, names)
    except WantedTrouble as trouble:
        raise Problem("bad-rule", f"{trouble}.", field=trouble.field) from None
    notified = rules.channels_of(records.reader)
    there = {row.name: rules.wanted_of(row, notified.get(row.id, [])) for row in rules.active(records.reader)}
    steps = plan(there, definitions, ends_others=order.end_others)
    if not order.only_plan and any(step.act in ("add", "change", "end") for step in steps):
        acts.do(
            person.id,
            "applied alert rules",
            f"{order.source}: {_summary(steps)}",
            lambda c: _apply(c, steps, person.id, now_ms),
        )
        book.changed()
    shown = [PlanStep(name=step.name, act=step.act, said=step.said) for step in steps]
    return PlanAnswer(done=not order.only_plan, steps=shown, summary=_summary(steps))


def _apply(connection: sqlite3.Connection, steps: list[RuleChange], person_id: int, now_ms: int) -> None:
    for step in steps:
        if step.act == "add" and step.wanted is not None:
            rules.add(connection, step.wanted, person_id, now_ms)
        elif step.act == "change" and step.wanted is not None:
            rules.change(connection, step.wanted, person_id, now_ms)
        elif step.act == "end":
            rules.end(connection, step.name, now_ms)


def _check_of_file(wanted: RuleDefinition, now_ms: int, names: list[str]) -> None:
    try:
        check(wanted, now_ms, names)
    except WantedTrouble as trouble:
        raise WantedTrouble(trouble.field, f"{wanted.name}: {str(trouble).rstrip('.')}") from None


def _understood(text: str, now_ms: int) -> Condition:
    try:
        return read_condition(text, now_ms)
    except QuestionTrouble as trouble:
        raise bad_question(trouble, "when") from None


def _checked(records: Records, name: str, order: AlertRuleOrder, now_ms: int) -> RuleDefinition:
    after = order.escalate_after_minutes
    definition = RuleDefinition(
        name,
        " ".join(order.when.split()),
        tuple(dict.fromkeys(order.to)),
        order.priority,
        order.at_most_an_hour,
        tuple(dict.fromkeys(order.escalate_to)),
        None if after is None else after * 60_000,
    )
    _understood(definition.condition, now_ms)
    try:
        check(definition, now_ms, [one.name for one in channels.channels(records.reader)])
    except WantedTrouble as trouble:
        raise Problem("bad-field", as_sentence(str(trouble)), field=trouble.field) from None
    return definition


def _named(records: Records, now_ms: int, windows: Windows, name: str) -> AlertRuleAnswer:
    row = rules.named(records.reader, name)
    fired = firings.latest(records.reader, now_ms - COUNTED_MS, now_ms + DAY_MS, rule=name, most=1000)
    return _rule(
        row, rules.channels_of(records.reader).get(row.id, []), [one.begun_ms for one in fired], windows, now_ms
    )


def _rule(
    row: AlertRule, notified: list[RuleChannel], fired: list[int], windows: Windows, now_ms: int
) -> AlertRuleAnswer:
    to = [channel_notified.channel for channel_notified in notified if not channel_notified.escalates]
    text, looked_at, trouble = "", "as it happens", "" if to else "It notifies nobody: give it a channel."
    try:
        condition = read_condition(row.condition, now_ms)
        text = sentence(condition)
        if isinstance(condition, Measured | Silent):
            looked_at = every_said(condition)
    except QuestionTrouble as error:
        trouble = f"It cannot be understood any more, and fires nothing. {error}"
    return AlertRuleAnswer(
        number=row.id,
        name=row.name,
        when=row.condition,
        said=text,
        to=to,
        priority=row.priority,
        at_most_an_hour=row.at_most_an_hour,
        escalate_to=[channel_notified.channel for channel_notified in notified if channel_notified.escalates],
        escalate_after_minutes=None if row.escalate_after_ms is None else row.escalate_after_ms // 60_000,
        source=row.source,
        person=row.person,
        changed=to_text(row.changed_ms),
        looked_at=looked_at,
        cost_ms=windows.cost_ms(row.id),
        fired=len(fired),
        latest=to_text(max(fired)) if fired else None,
        trouble=trouble,
    )


def _preview(condition: Condition, preview: Preview) -> AlertPreview:
    return AlertPreview(
        said=sentence(condition),
        summary=_would(preview),
        firings=[_would_fire(condition, one) for one in preview.firings[:MOST_SHOWN]],
        in_all=len(preview.firings),
        since=to_text(max(0, preview.since_ms)),
        remark=preview.remark,
        looked_at=every_said(condition) if isinstance(condition, Measured | Silent) else "as it happens",
        cost_ms=round(preview.cost_ms, 3),
        now=preview.now,
    )


def _would(preview: Preview) -> str:
    if not preview.firings:
        return f"Would not have fired in {span(BACK_MS)}."
    times = ", ".join(f"{minute_of(to_text(one.begun_ms))}{_about(one)}" for one in preview.firings[:3])
    more = f" and {count_of(len(preview.firings) - 3, 'more', 'more')}" if len(preview.firings) > 3 else ""
    return f"Would have fired {count_of(len(preview.firings), 'time')} in {span(BACK_MS)}: {times}{more}."


def _about(firing: Firing) -> str:
    return f" ({', '.join(firing.key)})" if firing.key else ""


def _would_fire(condition: Condition, firing: Firing) -> WouldFire:
    value = ""
    if firing.value is not None:
        value = (
            amount_said(condition, firing.worst if firing.worst is not None else firing.value)
            if isinstance(condition, Measured)
            else span(int(firing.value))
        )
    return WouldFire(
        begun=to_text(firing.begun_ms),
        over=None if firing.over_ms is None else to_text(firing.over_ms),
        about=", ".join(key or "(none)" for key in firing.key),
        value=value,
        reason=firing.reason,
    )


def _summary(steps: list[RuleChange]) -> str:
    words = {"add": "to add", "change": "to change", "keep": "as it is", "end": "to end", "leave": "left alone"}
    counts = {act: sum(step.act == act for step in steps) for act in words}
    return ", ".join(f"{count} {words[act]}" for act, count in counts.items() if count) or "no rules"
