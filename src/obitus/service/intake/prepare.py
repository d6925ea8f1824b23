"""From one line of a body to a report that is ready to be written: shape, redaction, fingerprint, compression.

This is the expensive part of intake; it runs off the event loop.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Final, NamedTuple

import pydantic_core
from pydantic import ValidationError

from obitus.core.clock import DAY_MS, to_ms, to_text
from obitus.core.days import day_of
from obitus.core.grouping.rules import GroupingRule, GroupingRuleTrouble, decide, parse_grouping_rule
from obitus.core.headline import Headline, headline_of
from obitus.core.quiet import failing
from obitus.core.redaction import Redactor
from obitus.core.releases import canonical
from obitus.service.intake.chains import asked_about, chain_of, read_stacks
from obitus.service.intake.decision_parts import AsCollected, ComputedParts
from obitus.service.intake.formats import REPORT, FailureReport, LogReport, RunReport, TallyReport
from obitus.service.intake.known_forms import Familiar, Form, form_of
from obitus.service.intake.lines import AnyReport, Refusal, report_in
from obitus.store.days import failures, logs, runs
from obitus.store.evidence import Packer
from obitus.store.grouping import Decided
from obitus.store.intake.facts import FailureFacts, Prepared, TallyFacts

_log = logging.getLogger("obitus.service")

MOST_AGE_MS: Final = 366 * DAY_MS
MOST_AHEAD_MS: Final = DAY_MS
SKEW_TO_CORRECT_MS: Final = 60_000

_COUNTED_BY: Final = (
    "kind", "id", "time", "release", "severity", "handled", "trace_id", "run", "attributes", "counted"
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Sender:
    """The sender: the app and environment of the key, and the time by both clocks."""

    app_id: int
    app: str
    environment: str
    received_ms: int
    skew_ms: int = 0
    """The correction of the sender's times; 0 when its clock is right or not sent."""
    flooding: dict[str, int] = field(default_factory=dict)
    """Fingerprints of the app that flood, and how many of each are prepared nevertheless."""

    def only_counts(self, fingerprint: str, *, was_counted: bool) -> bool:
        """Whether a failure like a known one need not be prepared; one that is to be kept whole is subtracted."""
        whole = self.flooding.get(fingerprint)
        if whole and not was_counted:
            self.flooding[fingerprint] = whole - 1
            return False
        return whole is not None


class Ready(NamedTuple):
    """A report that can be written, and its corrections. A tuple: thousands of them are passed between processes."""

    prepared: Prepared
    id: str
    notes: list[str]
    filtered: str | None = None
    """What the sender dropped, and why, in words."""


TurnBack = Callable[[int, str, Mapping[str, Any]], dict[str, Any] | None]
"""Gets an app, a release and a failure's content; returns the content with frames of built code mapped back, None
where there are none."""


class Preparer:
    """Turns lines into reports. One instance serves all threads."""

    def __init__(self, packer: Packer, redactor: Redactor | None = None) -> None:
        self._packer = packer
        self._redactor = redactor or Redactor()
        self._rules: tuple[GroupingRule, ...] = ()
        self._turn_back: TurnBack | None = None
        self._familiar = Familiar()

    def use(self, redactor: Redactor, rules: tuple[GroupingRule, ...] = (), turn_back: TurnBack | None = None) -> None:
        """Redact and group with these rules from now on, and map frames of built code back with that."""
        self._redactor, self._rules, self._turn_back = redactor, rules, turn_back
        self._familiar = Familiar()

    @property
    def rules(self) -> tuple[GroupingRule, ...]:
        """The active grouping rules."""
        return self._rules

    def with_rules(self, rules: Sequence[GroupingRule]) -> Preparer:
        """Return a preparer that groups with these rules instead."""
        other = Preparer(self._packer, self._redactor)
        other._rules, other._turn_back = tuple(rules), self._turn_back
        return other

    def prepare(self, line: bytes, sender: Sender) -> Ready | Refusal:
        """Return the report in ``line``, ready to be written, or why it is refused. Never raises for bad input."""
        try:
            written = line.decode("utf-8")
        except UnicodeDecodeError as error:
            return Refusal("not-utf-8", f"Byte {error.start} of the line is no UTF-8. Send JSON in UTF-8.")
        form: Form | None = None
        facts: FailureFacts | None = None
        # Rules need more than the parts of a form.
        if sender.flooding and not self._rules and (brief := _brief(line)) is not None:
            form, slim = brief
            facts = self._familiar.facts(sender.app_id, form)
            if facts is not None and sender.only_counts(facts.decided.fingerprint, was_counted="counted" in slim[1]):
                return self._checked(slim, sender, facts)
        outcome = report_in(line)
        if isinstance(outcome, Refusal):
            return outcome
        report, content, notes = outcome
        ready = self._whole(report, content, notes, written, sender)
        failure = ready.prepared.failure if isinstance(ready, Ready) else None
        if form is not None and failure is not None and failure.decided.fingerprint in sender.flooding:
            self._familiar.learn(sender.app_id, form, failure)
        return ready

    def _checked(
        self, read: tuple[FailureReport, dict[str, Any]], sender: Sender, facts: FailureFacts
    ) -> Ready | Refusal:
        """Return a failure like a prepared one, to be counted."""
        report, content = read
        when = _when(report, content, [], sender)
        if isinstance(when, Refusal):
            return when
        content = self._redactor.report(content)
        release = canonical(_plain(report.release or ""))
        failure = replace(facts, severity=report.severity, handled=report.handled, **_whose(content))
        prepared = Prepared(
            id=report.id.bytes,
            kind="failure",
            app_id=sender.app_id,
            environment=sender.environment,
            release=release,
            time_ms=when.time_ms,
            received_ms=sender.received_ms,
            day=when.day,
            failure=failure,
            counted=report.counted,
        )
        return Ready(prepared, when.id, [])

    def _whole(
        self, report: AnyReport, content: dict[str, Any], notes: list[str], written: str, sender: Sender
    ) -> Ready | Refusal:
        """Return a report, ready to be written whole."""
        when = _when(report, content, notes, sender)
        if isinstance(when, Refusal):
            return when
        report_id, time_ms, day = when
        if isinstance(report, FailureReport):
            read_stacks(content)
        release = canonical(_plain(report.release or ""))
        as_sent: str | None = written
        if self._turn_back is not None and isinstance(report, FailureReport):
            # First: the source lines may contain secrets, too.
            turned = self._turn_back(sender.app_id, release, content)
            if turned is not None:
                content, as_sent = turned, None
        content = self._redactor.report(content, as_sent)
        failure = self._facts(report, content, sender) if isinstance(report, FailureReport) else None
        tally = log = run = None
        body, dictionary_id = b"", None
        if isinstance(report, LogReport):
            log = logs.facts_of(content)
        else:
            content["time"] = to_text(time_ms)
            body, dictionary_id = self._packer.pack(pydantic_core.to_json(content))
        if isinstance(report, RunReport):
            run = runs.facts_of(content)
        if isinstance(report, TallyReport):
            tally = TallyFacts(
                _plain(report.entry_point),
                report.outcome,
                report.runs,
                report.grows,
                report.status or 0,
                report.duration_ms_below or 0.0,
            )
        prepared = Prepared(
            id=report.id.bytes,
            kind=report.kind,
            app_id=sender.app_id,
            environment=sender.environment,
            release=release,
            time_ms=time_ms,
            received_ms=sender.received_ms,
            day=day,
            body=body,
            dictionary_id=dictionary_id,
            failure=failure,
            tally=tally,
            log=log,
            run=run,
            counted=report.counted if isinstance(report, FailureReport) else None,
        )
        return Ready(prepared, report_id, notes, _filtered(report, content))

    def decided(self, content: dict[str, Any], app: str, environment: str) -> tuple[Decided, Headline]:
        """Return the grouping decision for a failure's content, and its title."""
        chain = chain_of(content)
        facts: dict[str, Any] = asked_about(content, chain, app, environment) if self._rules else {}
        decided, together = decide(chain, facts, self._rules)
        collected = failing.collected_as(content)
        if collected is not None and together is None:
            return Decided(failing.fingerprint_of(*collected), None, AsCollected(*collected)), failing.headline_of(
                *collected
            )

        further = ComputedParts(
            chain, decided, together, lambda: facts or asked_about(content, chain, app, environment)
        )
        fingerprint = f"rule-{together.id}" if together else decided.text
        traits = None if together or decided.apart else decided.traits
        return Decided(fingerprint, traits, further), headline_of(chain, decided.fault)

    def _facts(self, report: FailureReport, content: dict[str, Any], sender: Sender) -> FailureFacts:
        """Return the columns for the store. Texts come from the redacted content, never from the raw report."""
        decided, headline = self.decided(content, sender.app, sender.environment)
        return FailureFacts(
            severity=report.severity,
            handled=report.handled,
            type=_plain(headline.type),
            cause=_plain(headline.cause),
            place=_plain(headline.place),
            message=_plain(content["exceptions"][0].get("message", ""))[:1000],
            **_whose(content),
            trace_id=bytes.fromhex(report.trace_id) if report.trace_id else None,
            decided=decided,
            row=failures.row_of(content),
        )


def _whose(content: dict[str, Any]) -> dict[str, Any]:
    """Return the entry point and the person of a failure's content."""
    user, run = content.get("attributes", {}).get("user.id"), content.get("run")
    return {
        "entry_point": _plain(run["entry_point"]) if run else "",
        "user_id": _plain(str(user))[:300] if user is not None else None,
    }


def _brief(line: bytes) -> tuple[Form, tuple[FailureReport, dict[str, Any]]] | None:
    """Return the form of a failure, and the fields by which it is counted; None for other kinds of reports, and
    where they are not clear."""
    try:
        content = pydantic_core.from_json(line)
    except ValueError:
        return None
    if not isinstance(content, dict) or content.get("kind") != "failure":
        return None
    form = form_of(content)
    if form is None:
        return None
    slim = {name: content[name] for name in _COUNTED_BY if name in content}
    attributes = slim.get("attributes")
    if isinstance(attributes, dict):
        slim["attributes"] = {name: value for name, value in attributes.items() if name == "user.id"}
    try:
        report = REPORT.validate_json(pydantic_core.to_json(slim | {"exceptions": [{"type": "-"}]}))
    except ValidationError:
        return None
    return (form, (report, slim)) if isinstance(report, FailureReport) else None


def grouping_of(texts: Iterable[tuple[str, int]]) -> tuple[GroupingRule, ...]:
    """Parse these texts as grouping rules; an invalid one is skipped and logged."""
    rules = []
    for text, number in texts:
        try:
            rules.append(parse_grouping_rule(text, number))
        except GroupingRuleTrouble as trouble:
            _log.error("grouping rule %d is not active: %s Stop it, and write it again.", number, trouble)
    return tuple(rules)


class _When(NamedTuple):
    """A report's id, its corrected time, and its day."""

    id: str
    time_ms: int
    day: int


def _when(report: AnyReport, content: dict[str, Any], notes: list[str], sender: Sender) -> _When | Refusal:
    """Return the time of a report, or why it cannot be right; corrections are noted in the content and in the notes."""
    report_id = content["id"].lower() if len(content["id"]) == 36 else str(report.id)
    time_ms = to_ms(report.time)
    # From the uncorrected time: sent again it has to have the same day.
    day = day_of(report.id.bytes, time_ms)
    if abs(sender.skew_ms) >= SKEW_TO_CORRECT_MS:
        time_ms += sender.skew_ms
        notes.append(f"The sender's clock is off by {-sender.skew_ms / 1000:.0f} s; the time was corrected.")
        content["clock_skew_ms"] = sender.skew_ms
    ahead_ms = time_ms - sender.received_ms
    if ahead_ms > MOST_AHEAD_MS:
        reason = f"{report.time.isoformat()} is more than a day ahead. Set the sender's clock."
        return Refusal("time-ahead", reason, "time", report_id)
    if -ahead_ms > MOST_AGE_MS:
        reason = f"{report.time.isoformat()} is more than a year ago. Set the sender's clock."
        return Refusal("time-too-old", reason, "time", report_id)
    if ahead_ms > 0:
        time_ms = sender.received_ms
        if ahead_ms > SKEW_TO_CORRECT_MS:
            notes.append("The time is in the future; the time of arrival was stored instead.")
    return _When(report_id, time_ms, day)


def _filtered(report: AnyReport, content: dict[str, Any]) -> str | None:
    if not isinstance(report, LogReport) or report.logger != "obitus.client":
        return None
    return str(content["message"])[:500] if any(name.startswith("dropped.") for name in report.attributes) else None


def _plain(text: str) -> str:
    """Keep NUL out of columns: SQLite's own text functions stop there."""
    return text.replace("\0", "␀")
