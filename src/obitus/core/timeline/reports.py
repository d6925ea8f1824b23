"""Reports as entries of a timeline: a run with its steps, a failure with its breadcrumbs, a log record; each with its parent."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any, Final, NamedTuple

from obitus.core.calls import JOB, answered_at, calls_of
from obitus.core.clock import to_ms
from obitus.core.log_files.meanings import meaning
from obitus.core.own_attributes import ACCESS_LOG
from obitus.core.timeline.entries import KINDS, Entry, EntryKind
from obitus.core.timeline.merging import Timeline, merge
from obitus.core.timeline.twice import once

LONGEST_SAID: Final = 500
_SEVERITY_OF: Final = {"failed": "ERROR", "refused": "WARN"}
_OWN_TIME: Final = ("http", "statement")
"""Kinds of breadcrumbs whose time is their end; a span's time is its beginning."""


class Reported(NamedTuple):
    """One stored report, with its facts in the store."""

    content: Mapping[str, Any]
    app: str
    number: int


def timeline_of(reports: Iterable[Reported], around: Iterable[Entry] = ()) -> Timeline:
    """Return the timeline of reports and of events around them: what was reported twice occurs once, and each entry
    comes after its cause."""
    entries: list[Entry] = []
    by_span: dict[str, str] = {}
    answers: dict[str, tuple[str, str]] = {}
    dropped = 0
    for reported in sorted(reports, key=lambda reported: reported.number):
        content = reported.content
        own = _own(reported)
        entries.append(own)
        if own.kind == "run":
            if isinstance(content.get("span_id"), str):
                by_span.setdefault(content["span_id"], own.key)
            at = answered_at(content["run"], content.get("request"), content.get("attributes") or {})
            if at is not None:
                answers[own.key] = at
            # A failure's steps are those of its run; dropped ones are reported once.
            dropped += int(content.get("trail_left_out") or 0)
        for place, step in enumerate(content.get("trail") or ()):
            entry = _step(reported, own, place, step)
            if entry is not None:
                entries.append(entry)
                if isinstance(entry.data.get("span_id"), str):
                    by_span.setdefault(entry.data["span_id"], entry.key)
    found = once([_with_parent(entry, by_span) for entry in entries])
    merged = merge([*_under_their_calls(found, answers), *around])
    if dropped:
        merged.notes.append(f"{dropped:,} older breadcrumb{'s were' if dropped > 1 else ' was'} dropped by the apps.")
    return merged


def run_key(run_id: object) -> str:
    """Return the key of a run, by its id."""
    return f"run {str(run_id).lower()}"


def host_of(content: Mapping[str, Any], app: str) -> str:
    """Return the owner of a report's clock."""
    attributes = content.get("attributes") or {}
    for name in ("host.name", "container.id", "service.instance.id"):
        value = attributes.get(name)
        if isinstance(value, str) and value:
            return value
    return app


def _own(reported: Reported) -> Entry:
    """Return the entry of a report itself."""
    content, app, number = reported
    kind, run = content.get("kind"), content.get("run") or {}
    time_ms = float(to_ms(datetime.fromisoformat(content["time"])))
    run_id = str(run["id"]).lower() if run.get("id") else ""
    own = Entry(
        key=f"report {number}",
        kind="log",
        time_ms=time_ms,
        said="",
        app=app,
        host=host_of(content, app),
        severity=content.get("severity") or "INFO",
        run=run_id,
        trace=str(content.get("trace_id") or ""),
        number=number,
        tellers=(f"report {number}",),
    )
    if kind == "run":
        took = run.get("duration_ms")
        started = run.get("started")
        request = content.get("request") or {}
        own.kind, own.said = "run", _short(run.get("entry_point") or "")
        own.key = run_key(run_id) if run_id else own.key
        own.duration_ms = float(took) if isinstance(took, int | float) and took >= 0 else None
        own.time_ms = float(to_ms(datetime.fromisoformat(started))) if started else time_ms - (own.duration_ms or 0.0)
        own.severity = _SEVERITY_OF.get(run.get("outcome") or "", "INFO")
        own.parent = f"span {run['parent_span_id']}" if run.get("parent_span_id") else ""
        own.waits = not str(run.get("entry_point") or "").startswith(JOB)
        attributes, status = content.get("attributes") or {}, request.get("status")
        detail = str(attributes.get("http.response.detail_code") or "")
        means = meaning(status, detail) if isinstance(status, int) and status >= 400 else ""
        own.data = {
            name: value
            for name, value in (
                ("outcome", run.get("outcome")),
                ("status", status),
                ("detail code", detail),
                ("which means", means),
                ("access log", attributes.get(ACCESS_LOG)),
                (
                    "request",
                    " ".join(filter(None, (request.get("method"), request.get("url") or request.get("route")))),
                ),
                ("kept", run.get("kept")),
            )
            if value not in (None, "")
        }
        return own
    own.parent = run_key(run_id) if run_id else ""
    if kind == "failure":
        first = content["exceptions"][0]
        message = first.get("message") or ""
        own.kind, own.said = "failure", _short(f"{first['type']}: {message}" if message else first["type"])
        own.severity = content.get("severity") or "ERROR"
        own.data = {"handled": bool(content.get("handled")), "captured_by": content.get("captured_by") or ""}
        return own
    own.said = _short(content.get("message") or "")
    if not own.parent and isinstance(content.get("span_id"), str):
        own.parent = f"span {content['span_id']}"
    own.data = {"logger": content.get("logger") or ""} | dict(content.get("attributes") or {})
    return own


def _step(reported: Reported, own: Entry, place: int, step: Mapping[str, Any]) -> Entry | None:
    """Return the entry of one step of a report; None for a step that has its own report."""
    attributes = dict(step.get("attributes") or {})
    kind = step.get("kind")
    if kind == "failure" or kind not in KINDS:
        return None
    took = attributes.get("duration_ms")
    duration = float(took) if isinstance(took, int | float) and took >= 0 else None
    time_ms = float(to_ms(datetime.fromisoformat(step["time"])))
    if duration is not None and kind in _OWN_TIME and "span_id" not in attributes:
        time_ms -= duration
    found: EntryKind = kind
    return Entry(
        key=f"report {reported.number}#{place}",
        kind=found,
        time_ms=time_ms,
        said=_short(str(step.get("message") or "")),
        app=reported.app,
        host=own.host,
        severity=step.get("severity") or "INFO",
        duration_ms=duration,
        parent=own.key if own.kind == "run" else own.parent,
        run=own.run,
        trace=own.trace,
        data=attributes,
        tellers=own.tellers,
    )


def _with_parent(entry: Entry, by_span: Mapping[str, str]) -> Entry:
    if not entry.parent.startswith("span "):
        return entry
    parent = by_span.get(entry.parent.removeprefix("span "))
    return entry if parent is None or parent == entry.key else replace(entry, parent=parent)


def _under_their_calls(entries: list[Entry], answers: Mapping[str, tuple[str, str]]) -> list[Entry]:
    """Put each run under the step that called it, where the order of calls and runs shows which that was. A run
    whose calling span was not reported (a proxy's, a queue's) belongs to the step of its trace that names its host
    or queue.
    """
    by_key = {entry.key: entry for entry in entries}
    calls: dict[tuple[str, tuple[str, str]], list[Entry]] = defaultdict(list)
    called: dict[tuple[str, tuple[str, str]], list[Entry]] = defaultdict(list)
    for entry in entries:
        parent = by_key.get(entry.parent)
        if entry.kind == "run":
            if entry.key in answers and parent is not None and parent.kind == "run":
                called[parent.key, answers[entry.key]].append(entry)
            elif entry.key in answers and parent is None and entry.parent and entry.trace:
                called[f"trace {entry.trace}", answers[entry.key]].append(entry)
            continue
        for call in calls_of([{"kind": entry.kind, "attributes": entry.data}]):
            whom = (call.kind, call.target)
            if parent is not None and parent.kind == "run":
                calls[parent.key, whom].append(entry)
            if entry.trace:
                calls[f"trace {entry.trace}", whom].append(entry)
    under: dict[str, Entry] = {}
    for place, runs in called.items():
        calls_made = [one for one in calls.get(place, ()) if all(one.run != run.run for run in runs)]
        calls_made.sort(key=lambda entry: (entry.time_ms, entry.key))
        # A call without an answer may have begun no run: where their numbers differ, the pairs are not known.
        if len(calls_made) == len(runs):
            runs.sort(key=lambda entry: (entry.time_ms, entry.key))
            under |= {entry.key: step for entry, step in zip(runs, calls_made, strict=True)}
    return [replace(entry, parent=under[entry.key].key) if entry.key in under else entry for entry in entries]


def _short(text: str) -> str:
    return " ".join(text.split())[:LONGEST_SAID]
