"""Rules over events: changes of issues, rates and quiet failures fire within a second."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, Final

from obitus.core.alerting.conditions import Happening, Happens
from obitus.core.asking import holds
from obitus.core.asking.records import record_of
from obitus.core.asking.writing import term
from obitus.core.clock import DAY_MS, to_text
from obitus.core.quiet.failing import question_of
from obitus.core.wording import minute_of
from obitus.service.alerting.active_rules import ActiveRule, RuleBook, to_of, uids
from obitus.service.clock import Clock
from obitus.service.jobs.runner import Job
from obitus.store import events
from obitus.store import issues as issue_store
from obitus.store.alerts import firings, history
from obitus.store.alerts.firings import Fired
from obitus.store.errors import UNREADABLE, NotThere
from obitus.store.events import Event
from obitus.store.quiet import RECENT_MS
from obitus.store.records import Records
from obitus.store.rows.alerts import QuietThen, RateRegressionThen
from obitus.store.rows.issues import Issue

WEEKS_MS: Final = 14 * DAY_MS
_RELEASE: Final = re.compile(r" in release (\S+)[;.]")
LATE_MS: Final = DAY_MS
"""An event that is reported later than this after it happened fires nothing."""
TEXTS: Final = ("type", "cause", "message", "place", "entry_point", "subject")
KIND_OF: Final[dict[str, Happening]] = {
    "issue-new": "new issue",
    "issue-regressed": "issue regressed",
    "issue-reopened": "issue reopened",
    "rate-regression": "rate regression",
    "quiet-failure": "quiet failure",
}


@dataclass(frozen=True, slots=True)
class Occasion:
    """An event, with the fields for rules."""

    happening: Happening
    event: str
    time_ms: int
    reason: str
    facts: dict[str, Any]
    app_id: int
    app: str
    environment: str
    issue: Issue | None = None
    subject: str = ""
    records: tuple[str, str] = ("runs", "")
    """The kind of its records, and the question that finds them, where it belongs to no issue."""
    back_ms: int = WEEKS_MS
    """How far back they are."""


class Occasions:
    """Looks up the facts of events."""

    def __init__(self, records: Records) -> None:
        self._records = records

    def of_event(self, event: Event) -> Occasion | None:
        """Return the subject of an event, None where it was removed."""
        kind, subject = event.kind, event.subject
        if kind == "rate-regression":
            rate = history.rate_regression(
                self._records.reader,
                int(subject["release_id"]),
                str(subject["environment"]),
                int(subject.get("issue", 0)),
                str(subject.get("entry_point", "")),
            )
            return None if rate is None else self.of_rate(rate)
        if kind == "quiet-failure":
            quiet = history.quiet_one(self._records.reader, int(subject["quiet"]))
            return None if quiet is None else self.of_quiet(quiet)
        try:
            issue = issue_store.issue(self._records.reader, int(subject["issue"]))
        except NotThere:
            return None
        return self.of_issue(issue, kind, event.time_ms)

    def of_issue(self, issue: Issue, kind: str, time_ms: int) -> Occasion:
        """Return an event of an issue."""
        facts = self._facts(issue)
        reason = {
            "issue-new": f"It failed for the first time in release {issue.began_in or '(none named)'}.",
            "issue-regressed": f"It was settled, and has failed again in release {issue.latest_in or '(none named)'}.",
            "issue-reopened": issue.reopened or "It was parked, and has been reopened.",
        }[kind]
        return Occasion(
            KIND_OF[kind],
            kind,
            time_ms,
            reason,
            facts,
            issue.app_id,
            issue.app,
            str(facts.get("environment", "")),
            issue,
        )

    def of_rate(self, rate: RateRegressionThen) -> Occasion:
        """Return a rate regression."""
        issue = None
        facts: dict[str, Any] = {
            "app": rate.app,
            "environment": rate.environment,
            "release": rate.release,
            "entry_point": rate.entry_point,
        }
        if rate.issue_id:
            try:
                issue = issue_store.issue(self._records.reader, rate.issue_id)
                facts = self._facts(issue) | {"environment": rate.environment, "release": rate.release}
            except NotThere:
                issue = None
        reason = f"In release {rate.release}: {rate.reason}"
        asked = " ".join(
            (
                term("app", "=", rate.app),
                term("release", "=", rate.release),
                *([term("entry_point", "=", rate.entry_point)] if rate.entry_point else []),
                "outcome=failed",
            )
        )
        return Occasion(
            "rate regression", "rate-regression", rate.found_ms, reason, facts, rate.app_id, rate.app, rate.environment, issue,
            rate.entry_point, ("runs", asked),
        )  # fmt: skip

    def of_quiet(self, quiet: QuietThen) -> Occasion:
        """Return a quiet failure; a late job is a kind of its own."""
        facts = {"app": quiet.app, "environment": quiet.environment, "kind": quiet.kind, "subject": quiet.subject}
        if quiet.kind in ("refused", "silent"):
            facts["entry_point"] = quiet.subject
        happening: Happening = "job late" if quiet.kind == "silent" else "quiet failure"
        kind, asked = question_of(quiet.kind, quiet.app, quiet.subject)
        # One that holds since a release names it; others are of the last hours.
        release = _RELEASE.search(quiet.reason)
        if release is not None:
            asked += f" {term('release', '=', release[1])}"
        return Occasion(
            happening, "quiet-failure", quiet.found_ms, quiet.reason, facts, quiet.app_id, quiet.app, quiet.environment, None,
            quiet.subject, (f"{kind}s", asked), WEEKS_MS if release is not None or quiet.kind == "silent" else RECENT_MS,
        )  # fmt: skip

    def _facts(self, issue: Issue) -> dict[str, Any]:
        facts: dict[str, Any] = {
            "issue": issue.id, "app": issue.app, "type": issue.type, "cause": issue.cause, "place": issue.place, "message": issue.message,
            "state": issue.state, "entry_point": issue.entry_point, "failures": issue.failures_in_all, "people": issue.users,
            "began_in": issue.began_in, "release": issue.latest_in, "with": issue.holder,
        }  # fmt: skip
        reported: dict[str, Any] = {}
        try:
            latest = issue_store.failure_with_seq(self._records.reader, issue.last_seq)
            facts |= {
                "environment": latest.environment,
                "severity": latest.severity,
                "handled": bool(latest.handled),
                "user.id": latest.user_id,
            }
            content = self._records.evidence.content(issue.last_seq)
            if content is not None:
                reported = record_of(
                    content, app=issue.app, environment=latest.environment, received_ms=latest.received_ms
                )
        except (NotThere, *UNREADABLE):
            # The report was removed: counts can still be used.
            pass
        return reported | {name: value for name, value in facts.items() if value not in (None, "")}


def fires(rule: ActiveRule, occasion: Occasion) -> bool:
    """Whether a rule holds for an event."""
    condition = rule.condition
    return (
        isinstance(condition, Happens)
        and occasion.happening in condition.kinds
        and (condition.node is None or holds(condition.node, occasion.facts, TEXTS))
    )


def fired_of(occasion: Occasion, event_id: int | None) -> Fired:
    """Return the firing of a rule for it."""
    records: dict[str, Any] = {"what": occasion.happening, "app": occasion.app}
    if occasion.issue is not None:
        records |= {"kind": "issue", "issue": occasion.issue.id}
    else:
        kind, asked = occasion.records
        records |= {
            "kind": kind,
            "question": asked,
            "start": to_text(occasion.time_ms - occasion.back_ms),
            "end": to_text(occasion.time_ms + 1),
        }
    return Fired(
        key=() if occasion.issue is not None else (occasion.subject,),
        begun_ms=occasion.time_ms,
        reason=occasion.reason,
        records=records,
        event_id=event_id,
        issue_id=None if occasion.issue is None else occasion.issue.id,
        app_id=occasion.app_id,
        app=occasion.app,
        environment=occasion.environment,
    )


class Happenings(Job):
    """Fires the rules over events, each event once: a firing has its event's number."""

    name: ClassVar = "alerting"
    kinds: ClassVar = frozenset[events.Kind](KIND_OF)  # type: ignore[arg-type]
    from_newest: ClassVar = True

    def __init__(self, records: Records, clock: Clock, book: RuleBook) -> None:
        self._records, self._clock, self._book = records, clock, book
        self._occasions = Occasions(records)

    def take(self, event: Event) -> None:
        """Fire all rules that hold for an event, in one transaction: for one issue that is one message."""
        event_rules = [active for active in self._book.rules() if isinstance(active.condition, Happens)]
        if not event_rules:
            return
        occasion = self._occasions.of_event(event)
        if occasion is None:
            return
        holding = [active for active in event_rules if fires(active, occasion)]
        if not holding:
            return
        now_ms, fired = self._clock.now_ms(), fired_of(occasion, event.id)
        late = self._late(occasion, now_ms)

        def write(connection: Any) -> None:
            for rule in holding:
                to = [] if late else to_of(rule.to, now_ms)
                number = firings.begin(connection, rule.row, fired, to, self._book.silences(), uids(), now_ms)
                if number is not None and late:
                    firings.hold_back(connection, number, late)

        self._records.writer.run(write)

    @staticmethod
    def _late(occasion: Occasion, now_ms: int) -> str:
        """Return why nobody is notified although a rule holds: it was reported long after it happened."""
        last_ms = occasion.time_ms if occasion.issue is None else occasion.issue.last_ms
        if occasion.event not in ("issue-new", "issue-regressed") or last_ms > now_ms - LATE_MS:
            return ""
        return f"It happened at {minute_of(to_text(last_ms))} UTC, more than a day before it was reported."


def occasions_between(records: Records, from_ms: int, to_ms: int, kinds: frozenset[Happening]) -> Iterator[Occasion]:
    """Yield the events in a span, as far as they are kept, for previews."""
    occasions, reader = Occasions(records), records.reader
    issue_kinds = (
        ("issue-new", history.new_issues),
        ("issue-regressed", history.regressed),
        ("issue-reopened", history.reopened),
    )
    for kind, happened in issue_kinds:
        if KIND_OF[kind] not in kinds:
            continue
        rows = happened(reader, from_ms, to_ms)
        issues = {issue.id: issue for issue in issue_store.numbered(reader, [row.issue_id for row in rows])}
        for row in rows:
            if row.issue_id in issues:
                yield occasions.of_issue(issues[row.issue_id], kind, row.time_ms)
    if "rate regression" in kinds:
        yield from map(occasions.of_rate, history.rate_regressions(reader, from_ms, to_ms))
    if kinds & {"quiet failure", "job late"}:
        yield from (
            one for one in map(occasions.of_quiet, history.quiet(reader, from_ms, to_ms)) if one.happening in kinds
        )
