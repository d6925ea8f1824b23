"""Steps of a run without what differs from run to run: ids, values, times."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any, Final, NamedTuple

from obitus.core.values_in_text import LONGEST_SAID, without_values

MOST_STEPS: Final = 1_000
_TOOK = re.compile(r" (?:in [\d.,… ]+ ?ms|failed)$")


class Step(NamedTuple):
    """One step of a run."""

    key: str
    """What it does, the same in every run that does it."""
    outcome: str
    """How it ended: an answer code, a number of rows, a severity."""
    ms: float | None
    said: str
    """As it was reported."""


def steps_of(trail: Iterable[Mapping[str, Any]]) -> list[Step]:
    """Return the steps of a run, in order, without entries that only report a failure."""
    steps = []
    for step in trail:
        if step.get("kind") == "failure":
            continue
        steps.append(_step(step))
        if len(steps) >= MOST_STEPS:
            break
    return steps


def _step(step: Mapping[str, Any]) -> Step:
    kind = str(step.get("kind") or "mark")
    message = " ".join(str(step.get("message") or "").split())[:LONGEST_SAID]
    attributes = step.get("attributes") or {}
    severity = str(step.get("severity") or "INFO")
    took = attributes.get("duration_ms")
    ms = float(took) if isinstance(took, int | float) and took >= 0 else None
    if kind == "http":
        asked, arrow, answer = message.partition(" → ")
        status = attributes.get("http.response.status_code", attributes.get("status"))
        outcome = str(status) if status is not None else answer if arrow else severity
        return Step(f"http {without_values(asked)}", outcome, ms, message)
    if kind == "statement":
        text = attributes.get("db.query.text")
        rows = attributes.get("db.response.returned_rows")
        failed = severity in ("ERROR", "FATAL")
        outcome = "failed" if failed else "" if not isinstance(rows, int) else f"{rows} rows" if rows != 1 else "1 row"
        what = " ".join(str(text).split())[:LONGEST_SAID] if isinstance(text, str) and text else _TOOK.sub("", message)
        return Step(f"statement {without_values(what)}", "many rows" if isinstance(rows, int) and rows > 1 and not failed else outcome, ms, message)  # fmt: skip
    logger = attributes.get("logger")
    return Step(
        f"{kind} {f'{logger}: ' if isinstance(logger, str) and logger else ''}{without_values(message)}",
        severity,
        ms,
        message,
    )
