"""``obitus fingerprint FILE``: which records would be one issue. Works alone, without a service."""

from __future__ import annotations

import json
from collections.abc import Iterator
from itertools import chain
from pathlib import Path
from typing import Any

from obitus.core.grouping.fault import innermost
from obitus.core.grouping.groups import Groups
from obitus.core.headline import headline_of
from obitus.core.stacks import FoundStack, find_stacks, stack_of


def answers(path: Path) -> Iterator[dict[str, Any]]:
    """Yield one answer for each record of a file, in order.

    A record is a line of JSON with ``exception.type``, ``exception.message`` and ``exception.stacktrace``, as
    OpenTelemetry names them. A file that does not begin with one is read as text, and each stack trace in it is a
    record. An unreadable line has an answer without a group, which says why. Raises OSError.
    """
    groups = Groups()
    with path.open("r", encoding="utf-8", errors="replace") as opened:
        lines = (line for line in opened if line.strip())
        first = next(lines, "")
        if isinstance(_parsed(first), dict):
            for line in chain([first], lines):
                yield _answer_to(line, groups)
            return
    for found in find_stacks(path.read_text("utf-8", "replace")):
        yield _answer(found, groups)


def _parsed(line: str) -> Any:
    try:
        return json.loads(line)
    except (ValueError, RecursionError):
        return None


def _answer_to(line: str, groups: Groups) -> dict[str, Any]:
    record = _parsed(line)
    if not isinstance(record, dict):
        return {"group": None, "trouble": "the line is no JSON object"}
    given = (record.get(f"exception.{name}") for name in ("type", "message", "stacktrace"))
    kind, message, text = (value if isinstance(value, str) else "" for value in given)
    if not (kind or message or text):
        return {"group": None, "trouble": "the line has no exception.type, exception.message or exception.stacktrace"}
    return _answer(stack_of(kind, message, text), groups)


def _answer(stack: FoundStack, groups: Groups) -> dict[str, Any]:
    group, decided, choice = groups.add(stack.chain)
    inner = innermost(decided.fault.link)
    answer: dict[str, Any] = {
        "group": f"g{group}",
        "issue_title": headline_of(stack.chain, decided.fault).title,
        "innermost": {"function": inner.function, "file": inner.file, "line": inner.line} if inner else None,
        "language": stack.language or None,
        "fingerprint": decided.text,
        "parts": [part.as_dict() for part in decided.parts],
    }
    if choice is not None and choice.joins is not None:
        answer["joined"] = {"group": f"g{choice.joins.issue}", "because": choice.joins.verdict.reason}
    if choice is not None and choice.perhaps:
        answer["perhaps"] = [{"group": f"g{like.issue}", "because": like.verdict.reason} for like in choice.perhaps]
    return answer
