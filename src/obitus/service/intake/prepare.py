"""From one line of a body to a report that is ready to be written: shape, redaction, fingerprint, compression.

This is the dear part of taking reports in; it runs off the event loop.
"""

from __future__ import annotations

import json
import logging
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Final, NamedTuple

import pydantic_core
from pydantic import ValidationError

from obitus.core.clock import DAY_MS, to_ms, to_text
from obitus.core.days import day_of
from obitus.core.frames import ChainLink, Frame, looks_like_library, settle_relative
from obitus.core.grouping.recipe import Fingerprint, Part, earlier_texts
from obitus.core.grouping.rules import GroupingRule, GroupingRuleTrouble, decide, parse_grouping_rule, value_of
from obitus.core.headline import Headline, headline_of
from obitus.core.quiet import failing
from obitus.core.quiet.finding import Kind
from obitus.core.redaction import Redactor
from obitus.core.releases import canonical
from obitus.core.stacks import report_form, stack_of
from obitus.service.intake.familiar import Familiar, Form, form_of
from obitus.service.intake.formats import REPORT, FailureReport, LogReport, RunReport, TallyReport
from obitus.store.days import failures, logs, runs
from obitus.store.evidence import Packer
from obitus.store.grouping import Decided
from obitus.store.intake import FailureFacts, Prepared, TallyFacts

_log = logging.getLogger("obitus.service")

MOST_AGE_MS: Final = 366 * DAY_MS
MOST_AHEAD_MS: Final = DAY_MS
SKEW_TO_CORRECT_MS: Final = 60_000
MOST_REPAIRS: Final = 40

# Why a single line may be refused. docs/problems.md lists them.
REFUSALS: Final = {
    "not-utf-8": "The line is no UTF-8.",
    "not-json": "The line is no valid JSON.",
    "line-cut-off": "The line's JSON stops in the middle.",
    "nested-too-deep": "The line's JSON is nested too deep to be read.",
    "not-an-object": "The line is JSON, but no object.",
    "line-too-long": "The line has more bytes than a report may have.",
    "kind-not-known": "`kind` is none of failure, log, run, tally.",
    "id-missing": "The report has no id.",
    "field-missing": "A field that every report of this kind needs is missing.",
    "field-wrong": "A field has the wrong type or value.",
    "time-ahead": "The time lies more than a day ahead.",
    "time-too-old": "The time is more than a year ago.",
    "store-broken": "The store refused this report alone.",
    "fault": "The service could not read this report; its log says why.",
}

_COUNTED_BY: Final = ("kind", "id", "time", "release", "severity", "handled", "trace_id", "run", "attributes")
_LONE_SURROGATE = re.compile(r"[\ud800-\udfff]")
_LIST_KEPT_AT_START: Final = 0.4


@dataclass(frozen=True, slots=True)
class Sender:
    """Who sends: the app and environment that the key stands for, and when, by both clocks."""

    app_id: int
    app: str
    environment: str
    received_ms: int
    skew_ms: int = 0
    """What to add to the sender's times; 0 when its clock is right or it does not say what time it has."""
    flooding: frozenset[str] = frozenset()
    """Fingerprints of the app that fail so often that most are only counted."""


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why a line cannot be taken."""

    slug: str
    reason: str
    field: str | None = None
    id: str | None = None


class Ready(NamedTuple):
    """A report that can be written, and what had to be changed for that. A tuple: it travels between processes by the thousand."""

    prepared: Prepared
    id: str
    notes: list[str]
    filtered: str | None = None
    """What the sender says that it dropped, and why, in words."""


TurnBack = Callable[[int, str, Mapping[str, Any]], dict[str, Any] | None]
"""Gets an app, a release and a failure's content; returns the content with frames of built code turned back, None where none are."""


class Preparer:
    """Turns lines into reports. One instance serves all threads."""

    def __init__(self, packer: Packer, redactor: Redactor | None = None) -> None:
        self._packer = packer
        self._redactor = redactor or Redactor()
        self._rules: tuple[GroupingRule, ...] = ()
        self._turn_back: TurnBack | None = None
        self._familiar = Familiar()

    def use(self, redactor: Redactor, rules: tuple[GroupingRule, ...] = (), turn_back: TurnBack | None = None) -> None:
        """Redact and group with these rules from now on, and turn the frames of built code back with that."""
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
        known: FailureFacts | None = None
        # Rules ask for more than what makes a form.
        if sender.flooding and not self._rules and (brief := _brief(line)) is not None:
            form, slim = brief
            known = self._familiar.facts(sender.app_id, form)
            if known is not None and known.decided.fingerprint in sender.flooding:
                return self._checked(slim, sender, known)
        read = _read(line)
        if isinstance(read, Refusal):
            return read
        report, content, notes = read
        ready = self._whole(report, content, notes, written, sender)
        failure = ready.prepared.failure if isinstance(ready, Ready) else None
        if form is not None and failure is not None and failure.decided.fingerprint in sender.flooding:
            self._familiar.learn(sender.app_id, form, failure)
        return ready

    def _checked(
        self, read: tuple[FailureReport, dict[str, Any]], sender: Sender, known: FailureFacts
    ) -> Ready | Refusal:
        """Return a failure that is like one that was prepared, to be counted."""
        report, content = read
        when = _when(report, content, [], sender)
        if isinstance(when, Refusal):
            return when
        content = self._redactor.report(content)
        release = canonical(_plain(report.release or ""))
        failure = replace(known, severity=report.severity, handled=report.handled, **_whose(content))
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
            _read_stacks(content)
        release = canonical(_plain(report.release or ""))
        as_sent: str | None = written
        if self._turn_back is not None and isinstance(report, FailureReport):
            # First: the lines of the source may hold what is to be hidden, too.
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
        )
        return Ready(prepared, report_id, notes, _filtered(report, content))

    def decided(self, content: dict[str, Any], app: str, environment: str) -> tuple[Decided, Headline]:
        """Return what the recipe and the rules make of a failure's content, and what people call it."""
        chain = chain_of(content)
        facts: dict[str, Any] = asked_about(content, chain, app, environment) if self._rules else {}
        decided, together = decide(chain, facts, self._rules)
        collected = failing.collected_as(content)
        if collected is not None and together is None:
            return Decided(failing.fingerprint_of(*collected), None, _AsCollected(*collected)), failing.headline_of(
                *collected
            )

        further = _Further(chain, decided, together, lambda: facts or asked_about(content, chain, app, environment))
        fingerprint = f"rule-{together.id}" if together else decided.text
        traits = None if together or decided.apart else decided.traits
        return Decided(fingerprint, traits, further), headline_of(chain, decided.fault)

    def _facts(self, report: FailureReport, content: dict[str, Any], sender: Sender) -> FailureFacts:
        """Return what the store keeps in columns. Texts come from the redacted content, never from the raw report."""
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


class _AsCollected:
    """Why a failure that was made of what is collected belongs where it does."""

    def __init__(self, kind: Kind, subject: str) -> None:
        self._kind, self._subject = kind, subject

    def parts(self) -> Sequence[Part]:
        return failing.parts_of(self._kind, self._subject)

    def earlier(self) -> Sequence[str]:
        return ()

    def value_of(self, name: str) -> str:
        return ""


class _Further:
    """What is asked of a decision now and then only, worked out when it is."""

    def __init__(
        self,
        chain: list[ChainLink],
        decided: Fingerprint,
        together: GroupingRule | None,
        facts: Callable[[], dict[str, Any]],
    ) -> None:
        self._chain, self._decided, self._together, self._facts = chain, decided, together, facts

    def parts(self) -> Sequence[Part]:
        if self._together is not None:
            reason = "a grouping rule keeps these together"
            return [Part("rule", self._together.text, counted=True, reason=reason)]
        return self._decided.parts

    def earlier(self) -> Sequence[str]:
        return earlier_texts(self._chain, self._decided.apart)

    def value_of(self, name: str) -> str:
        return str(value_of(name, self._chain, self._facts()))[:200]


class ReadAgain:
    """The same of a report that another process prepared: its content is read again from its evidence, once."""

    def __init__(self, again: Callable[[], Decided]) -> None:
        self._again = cache(again)

    def parts(self) -> Sequence[Part]:
        """Return what counted and what did not, each with its reason."""
        return self._again().further.parts()

    def earlier(self) -> Sequence[str]:
        """Return the fingerprints that earlier versions of the recipe gave, the newest first."""
        return self._again().further.earlier()

    def value_of(self, name: str) -> str:
        """Return a value of the failure that a split keeps apart by."""
        return self._again().further.value_of(name)


def _whose(content: dict[str, Any]) -> dict[str, Any]:
    """Return the entry point and the person of a failure's content."""
    user, run = content.get("attributes", {}).get("user.id"), content.get("run")
    return {
        "entry_point": _plain(run["entry_point"]) if run else "",
        "user_id": _plain(str(user))[:300] if user is not None else None,
    }


def _brief(line: bytes) -> tuple[Form, tuple[FailureReport, dict[str, Any]]] | None:
    """Return the form of a failure, and what it is counted by; None for another kind of report, and where either is not clear."""
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
    """Return the grouping rules that these texts state; one that cannot be understood is passed over, and the log says so."""
    found = []
    for text, number in texts:
        try:
            found.append(parse_grouping_rule(text, number))
        except GroupingRuleTrouble as trouble:
            _log.error("grouping rule %d is not active: %s Stop it, and write it again.", number, trouble)
    return tuple(found)


AnyReport = FailureReport | LogReport | RunReport | TallyReport


class _When(NamedTuple):
    """A report's id, when it happened, corrected, and the day that it is kept under."""

    id: str
    time_ms: int
    day: int


def _when(report: AnyReport, content: dict[str, Any], notes: list[str], sender: Sender) -> _When | Refusal:
    """Return when something happened, or why its time cannot be right; says in the content and in the notes what was corrected."""
    report_id = content["id"].lower() if len(content["id"]) == 36 else str(report.id)
    time_ms = to_ms(report.time)
    # As the report says it, before anything is corrected: sent again it has to come to the same day.
    day = day_of(report.id.bytes, time_ms)
    if abs(sender.skew_ms) >= SKEW_TO_CORRECT_MS:
        time_ms += sender.skew_ms
        notes.append(f"The sender's clock is off by {-sender.skew_ms / 1000:.0f} s; the time was corrected.")
        content["clock_skew_ms"] = sender.skew_ms
    ahead_ms = time_ms - sender.received_ms
    if ahead_ms > MOST_AHEAD_MS:
        reason = f"{report.time.isoformat()} lies more than a day ahead. Set the sender's clock."
        return Refusal("time-ahead", reason, "time", report_id)
    if -ahead_ms > MOST_AGE_MS:
        reason = f"{report.time.isoformat()} is more than a year ago. Set the sender's clock."
        return Refusal("time-too-old", reason, "time", report_id)
    if ahead_ms > 0:
        time_ms = sender.received_ms
        if ahead_ms > SKEW_TO_CORRECT_MS:
            notes.append("The time lies ahead of now; the time of arrival was taken instead.")
    return _When(report_id, time_ms, day)


def _read(line: bytes) -> tuple[AnyReport, dict[str, Any], list[str]] | Refusal:
    """Check the shape of one line; mend what can be mended without guessing (unknown fields, what is too long)."""
    notes: list[str] = []
    try:
        return REPORT.validate_json(line), pydantic_core.from_json(line), notes
    except ValidationError as error:
        first = error
    try:
        content = pydantic_core.from_json(line)
    except ValueError as error:
        mended = without_surrogates(line) if b"\\ud" in line.lower() else None
        if mended is None:
            return _not_json(str(error))
        content = mended
        notes.append("Half surrogate pairs in strings were replaced.")
    if not isinstance(content, dict):
        return Refusal("not-an-object", "A report is a JSON object. Send one object a line.")
    for _ in range(MOST_REPAIRS):
        text = pydantic_core.to_json(content)
        try:
            return REPORT.validate_json(text), content, notes
        except ValidationError as error:
            first = error
        if not _mend(content, first, notes):
            break
    return _refusal(first, content)


def _not_json(error: str) -> Refusal:
    if "recursion limit" in error:
        return Refusal("nested-too-deep", "The line is nested too deep. Flatten what you attach.")
    if "EOF while parsing" in error:
        return Refusal("line-cut-off", f"The line stops in the middle: {error}. Send it again, whole.")
    return Refusal("not-json", f"The line is no valid JSON: {error}.")


def without_surrogates(line: bytes) -> Any | None:
    """Return the value that JSON states, half surrogate pairs replaced; None where it is no JSON."""
    try:
        text = json.dumps(json.loads(line), ensure_ascii=False)
    except (ValueError, RecursionError):
        return None
    return pydantic_core.from_json(_LONE_SURROGATE.sub("�", text))


def _mend(content: dict[str, Any], error: ValidationError, notes: list[str]) -> bool:
    """Drop unknown fields and cut what is too long; return whether anything could be done about every complaint."""
    for complaint in error.errors(include_url=False, include_input=False):
        path = _path(complaint["loc"], content)
        if complaint["type"] not in ("extra_forbidden", "string_too_long", "too_long") or not path:
            return False
        holder: Any = content
        for step in path[:-1]:
            holder = holder[step]
        last, name = path[-1], ".".join(str(step) for step in path)
        if complaint["type"] == "extra_forbidden":
            del holder[last]
            notes.append(f"{name}: not a known field, left out. Put values of your own into attributes.")
            continue
        most = int(complaint.get("ctx", {}).get("max_length") or 0)
        value = holder[last]
        notes.append(f"{name}: longer than {most:,}, cut.")
        if isinstance(value, str):
            holder[last] = value[: most - 1] + "…"
        elif isinstance(value, list):
            start = int(most * _LIST_KEPT_AT_START)
            holder[last] = value[:start] + value[len(value) - (most - start) :]
        elif isinstance(value, dict):
            holder[last] = dict(list(value.items())[:most])
        else:
            return False
    return True


def _path(place: tuple[int | str, ...], content: dict[str, Any]) -> list[int | str]:
    """Turn a place as the validator names it into a path through the content (it also names union branches)."""
    path: list[int | str] = []
    holder: Any = content
    for i, step in enumerate(place):
        there = step in holder if isinstance(holder, dict) else isinstance(holder, list) and step in range(len(holder))
        if there:
            path.append(step)
            holder = holder[step]
        elif step == "[key]":
            return []
        elif i > 0:
            break
    return path


def _refusal(error: ValidationError, content: dict[str, Any]) -> Refusal:
    complaint = error.errors(include_url=False, include_input=False)[0]
    kind = complaint["type"]
    place = [str(step) for step in complaint["loc"]]
    if place and place[0] == content.get("kind"):
        place = place[1:]
    name = ".".join(place)
    report_id = content.get("id") if isinstance(content.get("id"), str) else None
    if kind in ("union_tag_invalid", "union_tag_not_found"):
        return Refusal("kind-not-known", "kind is one of failure, log, run, tally.", "kind", report_id)
    if kind == "missing":
        slug = "id-missing" if name == "id" else "field-missing"
        return Refusal(slug, f"{name} is missing.", name, report_id)
    return Refusal("field-wrong", f"{name}: {complaint['msg']}.", name, report_id)


def chain_of(content: dict[str, Any]) -> list[ChainLink]:
    """Return the exception chain of a failure's content."""
    return [
        ChainLink(
            type=link["type"],
            message=link.get("message", ""),
            frames=_frames(link.get("frames", ())),
            relation=link.get("relation"),
        )
        for link in content["exceptions"]
    ]


def asked_about(content: dict[str, Any], chain: list[ChainLink], app: str, environment: str) -> dict[str, Any]:
    """Return what grouping rules ask about: fields, and attributes under their own names."""
    run = content.get("run")
    inner = chain[-1].frames[-1] if chain[-1].frames else None
    return {
        **content.get("attributes", {}),
        "app": app,
        "environment": environment,
        "release": content.get("release") or "",
        "severity": content.get("severity", "ERROR"),
        "handled": content.get("handled", False),
        "type": chain[0].type,
        "cause": chain[-1].type,
        "message": chain[0].message,
        "function": inner.function if inner else "",
        "module": inner.module if inner else "",
        "file": inner.file if inner else "",
        "entry_point": run["entry_point"] if run else "",
    }


def _read_stacks(content: dict[str, Any]) -> None:
    """Make frames of the stacks that a sender gave as text."""
    for link in content["exceptions"]:
        text = link.pop("stack", None)
        if text and not link.get("frames"):
            found = stack_of(link["type"], link.get("message", ""), text)
            link["frames"] = report_form(found.chain[:1])[0]["frames"]


def _frames(given: Sequence[dict[str, Any]]) -> list[Frame]:
    frames = [_frame(frame) for frame in given]
    # Where the sender says what is own, that counts; where it does not, paths alone mislead.
    return frames if all(frame.get("own") is not None for frame in given) else settle_relative(frames)


def _frame(frame: dict[str, Any]) -> Frame:
    own = frame.get("own")
    file = frame.get("file", "")
    if own is None:
        own = not looks_like_library(file)
    source = frame.get("source")
    code = source["line"].strip() if source else ""
    return Frame(
        frame["function"], frame.get("module", ""), file, frame.get("line"), own, code, column=frame.get("column")
    )


def _filtered(report: AnyReport, content: dict[str, Any]) -> str | None:
    if not isinstance(report, LogReport) or report.logger != "obitus.client":
        return None
    return str(content["message"])[:500] if any(name.startswith("dropped.") for name in report.attributes) else None


def _plain(text: str) -> str:
    """Keep NUL out of columns: SQLite's own text functions stop there."""
    return text.replace("\0", "␀")
