"""Errors inside of successful answers: a problem document (RFC 9457) with 200, the errors of a GraphQL answer.

Sources: RFC 9457, section 3; the GraphQL specification (spec.graphql.org, 7.1, Response Format), and GraphQL over HTTP for its media type.
"""

from __future__ import annotations

import json
import re
from typing import Any, Final

from obitus.client.guard import guarded
from obitus.client.instruments.requests import Body
from obitus.client.runs import RunState
from obitus.core.bounds import medium
from obitus.core.own_attributes import ERROR_INSIDE

MOST_BYTES: Final = 16 * 1024
_PROBLEM: Final = "application/problem+json"
_GRAPHQL: Final = "application/graphql-response+json"
# For answers that are too long to be kept: the specification recommends errors as the first field.
_ERRORS_FIRST: Final = re.compile(rb'\s{0,20}\{\s{0,20}"errors"\s{0,20}:\s{0,20}\[\s{0,20}\{')
_MESSAGE: Final = re.compile(rb'"message"\s{0,20}:\s{0,20}"((?:[^"\\]|\\.){0,500})')


class Look:
    """Reads an answer that may contain an error while it is sent; what it keeps goes into no report."""

    __slots__ = ("_body", "_type")

    def __init__(self, content_type: str) -> None:
        self._type, self._body = content_type, Body(content_type, MOST_BYTES)

    @guarded
    def add(self, piece: bytes) -> None:
        """Read a piece of it."""
        self._body.add(piece)

    def outcome_of(self, outcome: str, run: RunState) -> str:
        """Return the outcome of a run: a successful answer with an error inside is refused, like one with a status of 4xx."""
        error = error_inside(self._type, self._body) if outcome == "ok" else None
        if error is None:
            return outcome
        run.attach(ERROR_INSIDE, error)
        return "refused"


def may_hold_one(status: int, content_type: str, path: str) -> bool:
    """Whether an answer has to be parsed once it is complete."""
    if not 200 <= status < 300 or "json" not in content_type:
        return False
    kind = content_type.partition(";")[0].strip().lower()
    return kind in (_PROBLEM, _GRAPHQL) or (kind == "application/json" and "graphql" in path.lower())


def error_inside(content_type: str, body: Body) -> str | None:
    """Return the text of the error in an answer, None where there is none. Never raises for the app's answers."""
    data = body.start
    is_problem = content_type.partition(";")[0].strip().lower() == _PROBLEM
    try:
        answer = json.loads(data)
    except (ValueError, RecursionError):
        if is_problem:
            return "a problem document"
        if _ERRORS_FIRST.match(data) is None:
            return None
        message = _MESSAGE.search(data)
        return _said(message[1].decode("utf-8", "replace") if message else "")
    if not isinstance(answer, dict):
        return None
    if is_problem:
        texts = [answer[name] for name in ("title", "detail") if isinstance(answer.get(name), str) and answer[name]]
        return medium(": ".join(texts)) or "a problem document"
    errors = answer.get("errors")
    if not isinstance(errors, list) or not errors:
        return None
    first: Any = errors[0]
    message = first.get("message") if isinstance(first, dict) else first
    return _said(message if isinstance(message, str) else "", len(errors))


def _said(message: str, errors: int = 1) -> str:
    more = f" (and {errors - 1} more)" if errors > 1 else ""
    return medium((message or "an error without a message") + more)
