"""Failures made of collected records: a refused run, a warning, a job that did not run; and their grouping."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from hashlib import blake2b
from typing import Any, Final, Literal

from obitus.core.asking import All, Compare, Node
from obitus.core.asking.records import Kind as RecordKind
from obitus.core.asking.records import request_line
from obitus.core.asking.writing import quoted, term
from obitus.core.bounds import long, short
from obitus.core.clock import HOUR_MS, to_ms, to_text
from obitus.core.grouping.recipe import Part
from obitus.core.headline import Headline
from obitus.core.ids import derived_id
from obitus.core.own_attributes import ERROR_INSIDE, QUIET_KIND, QUIET_SUBJECT
from obitus.core.quiet.finding import KINDS, Kind
from obitus.core.severity import SEVERITIES
from obitus.core.values_in_text import said_by

CAPTURED_BY: Final = "quiet failure"
TYPES: Final[dict[Kind, str]] = {"refused": "Refused", "warning": "Warning", "silent": "Did not run"}
_REASONS: Final[dict[Kind, str]] = {
    "refused": "somebody had the refused runs of this entry point collected as one issue",
    "warning": "somebody had the records that say this collected as one issue",
    "silent": "somebody had the times that this job did not run collected as one issue",
}
LOOKED_FOR: Final[dict[Kind, RecordKind]] = {"refused": "run", "warning": "log"}
"""Which records are collected; a job that did not run has none."""


def asked(app: str, kind: Kind, subject: str) -> Node:
    """Return a question that matches all records that an issue collects, and perhaps some more."""
    if kind == "refused":
        return All((Compare("app", "=", app), Compare("entry_point", "=", subject), Compare("outcome", "=", "refused")))
    return All((Compare("app", "=", app), Compare("severity", ">=", "WARN", float(SEVERITIES.index("WARN")))))


def question_of(kind: Kind, app: str, subject: str) -> tuple[Literal["run", "log"], str]:
    """Return a question that finds the records of a quiet failure, and of which kind they are."""
    of_app = term("app", "=", app)
    if kind == "refused":
        return "run", f"{of_app} {term('entry_point', '=', subject)} outcome=refused"
    if kind == "silent":
        return "run", f"{of_app} {term('entry_point', '=', subject)}"
    if "…" in subject:
        # Values were left out: its longest piece is looked for.
        compared = quoted(max((piece.strip() for piece in subject.split("…")), key=len))
    else:
        compared = f"({term('template', '=', subject)} or {term('message', '=', subject)})"
    return "log", f"{of_app} severity>=WARN {compared}"


def means(report: Mapping[str, Any], kind: Kind, subject: str) -> bool:
    """Whether a report that matches the question is one that is collected."""
    if kind == "refused":
        return True
    return said_by(str(report.get("template") or ""), str(report.get("message") or "")) == subject


def failure_of(report: Mapping[str, Any], kind: Kind, subject: str) -> dict[str, Any]:
    """Return the failure of a kept run or log record; its id follows from the report's, so that it is made once."""
    time_ms = to_ms(datetime.fromisoformat(report["time"]))
    failure = _failure(derived_id(time_ms, report["id"], kind, subject), time_ms, kind, subject)
    failure["severity"] = report.get("severity") or "WARN"
    failure["exceptions"][0]["message"] = long(_message(report, kind))
    for name in ("release", "trace_id", "span_id", "request", "trail", "trail_left_out"):
        if report.get(name):
            failure[name] = report[name]
    run = {name: value for name, value in (report.get("run") or {}).items() if name not in ("failures", "kept")}
    if run.get("entry_point"):
        failure["run"] = run
    failure["attributes"] = dict(report.get("attributes") or {}) | failure["attributes"]
    return failure


def did_not_run(subject: str, environment: str, reason: str, last_hour: int, now_ms: int) -> dict[str, Any]:
    """Return the failure of a job that did not run; the same for each time it is found until it runs again."""
    time_ms = min(now_ms, (last_hour + 1) * HOUR_MS)
    failure = _failure(derived_id(time_ms, subject, environment, last_hour), now_ms, "silent", subject)
    failure["exceptions"][0]["message"] = long(reason)
    failure["run"] = {"entry_point": short(subject)}
    return failure


def _failure(report_id: str, time_ms: int, kind: Kind, subject: str) -> dict[str, Any]:
    return {
        "kind": "failure",
        "id": report_id,
        "time": to_text(time_ms),
        "severity": "WARN",
        "handled": True,
        "captured_by": CAPTURED_BY,
        "exceptions": [{"type": TYPES[kind], "message": ""}],
        "attributes": {QUIET_KIND: kind, QUIET_SUBJECT: subject},
    }


def _message(report: Mapping[str, Any], kind: Kind) -> str:
    if kind == "warning":
        return str(report.get("message") or "")
    request = report.get("request") or {}
    inside = (report.get("attributes") or {}).get(ERROR_INSIDE)
    parts = [str(request["status"])] if request.get("status") else []
    parts += [request_line(request)] if request_line(request) else []
    why = str(inside) if inside else _of_answer(request.get("answer_body") or {})
    return " ".join(parts) + (f": {why}" if why else "")


def _of_answer(body: Mapping[str, Any]) -> str:
    """Return the text of a kept answer: the title and detail of a problem document (RFC 9457), or of something similar."""
    content = body.get("json")
    if isinstance(content, Mapping):
        texts = [
            str(content[name]) for name in ("title", "detail", "message", "error") if isinstance(content.get(name), str)
        ]
        return ": ".join(texts[:2])
    return ""


def collected_as(content: Mapping[str, Any]) -> tuple[Kind, str] | None:
    """Return the kind under which a failure was collected; None for one that an app reported."""
    attributes = content.get("attributes") or {}
    kind, subject = attributes.get(QUIET_KIND), attributes.get(QUIET_SUBJECT)
    if content.get("captured_by") != CAPTURED_BY or kind not in KINDS or not isinstance(subject, str):
        return None
    return kind, subject


def fingerprint_of(kind: Kind, subject: str) -> str:
    """Return the fingerprint of collected failures."""
    return f"quiet-{blake2b(f'{kind} {subject}'.encode('utf-8', 'surrogatepass'), digest_size=12).hexdigest()}"


def parts_of(kind: Kind, subject: str) -> list[Part]:
    """Return the reasons why it is one issue."""
    return [Part("collected", subject, counted=True, reason=_REASONS[kind])]


def headline_of(kind: Kind, subject: str) -> Headline:
    """Return its title: ``Refused in POST /sailings/{id}/boardings``."""
    return Headline(TYPES[kind], "", subject)


def collects_said(kind: Kind, subject: str) -> str:
    """Return what an issue collects, in words."""
    return {
        "refused": f"the refused runs of {subject}",
        "warning": f"the log records that say “{subject}”",
        "silent": f"the times that {subject} did not run",
    }[kind]
