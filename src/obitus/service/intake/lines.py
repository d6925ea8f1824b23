"""One line of a body: a report of the right shape, corrected where that needs no guessing, or the reason why it is refused."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from typing import Any, Final

import pydantic_core
from pydantic import ValidationError

from obitus.service.intake.formats import REPORT, FailureReport, LogReport, RunReport, TallyReport
from obitus.service.wrong_values import what_is_expected

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
    "time-ahead": "The time is more than a day ahead.",
    "time-too-old": "The time is more than a year ago.",
    "store-broken": "The store refused this report alone.",
    "fault": "The service could not read this report; its log says why.",
}

_LONE_SURROGATE = re.compile(r"[\ud800-\udfff]")
_LIST_KEPT_AT_START: Final = 0.4

AnyReport = FailureReport | LogReport | RunReport | TallyReport


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why a line is refused."""

    slug: str
    reason: str
    field: str | None = None
    id: str | None = None


def report_in(line: bytes) -> tuple[AnyReport, dict[str, Any], list[str]] | Refusal:
    """Check the shape of one line; correct what needs no guessing (unknown fields, values that are too long)."""
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
    """Parse JSON, with half surrogate pairs replaced; None where it is no JSON."""
    try:
        text = json.dumps(json.loads(line), ensure_ascii=False)
    except (ValueError, RecursionError):
        return None
    return pydantic_core.from_json(_LONE_SURROGATE.sub("�", text))


def _mend(content: dict[str, Any], error: ValidationError, notes: list[str]) -> bool:
    """Drop unknown fields and cut values that are too long; return whether every complaint could be corrected."""
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
    """Convert a validator's location to a path in the content (the location also names union branches)."""
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
    return Refusal("field-wrong", f"{name}: {what_is_expected(complaint)}.", name, report_id)
