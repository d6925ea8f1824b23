"""Parameters of requests: a window, a question, a page of an answer."""

from __future__ import annotations

import base64
import json
from typing import Annotated

from fastapi import Depends, Query

from obitus.core.asking import MOST_CHARACTERS, Node, QuestionTrouble, read
from obitus.core.clock import span_ms
from obitus.core.releases import canonical
from obitus.service.api.times import time_in_query
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock
from obitus.service.problems import Problem
from obitus.store.windows import Window

Limit = Annotated[int, Query(ge=1, le=200, description="Most rows of one page.")]
Cursor = Annotated[str | None, Query(max_length=200, description="`next` of the page before.")]
Question = Annotated[
    str | None,
    Query(max_length=MOST_CHARACTERS, description="The question: see docs/questions.md."),
]


async def the_window(
    clock: TheClock,
    window: Annotated[
        str, Query(description="How far back from now: `30m`, `24h`, `14d`. Not used when `start` is given.")
    ] = "24h",
    start: Annotated[str | None, Query(description="Start, RFC 3339 with an offset.")] = None,
    end: Annotated[str | None, Query(description="End, RFC 3339 with an offset; now when absent.")] = None,
    app: Annotated[str | None, Query(max_length=100, description="Only this app.")] = None,
    environment: Annotated[str | None, Query(max_length=100, description="Only this environment.")] = None,
    release: Annotated[str | None, Query(max_length=300, description="Only failures of this release.")] = None,
) -> Window:
    """Return the span of time and the filters of a request."""
    end_ms = time_in_query(end, "end") if end else clock.now_ms() + 1
    if start:
        start_ms = time_in_query(start, "start")
    else:
        length = span_ms(window)
        if length is None:
            raise Problem("bad-window", f"{window[:50]!r} is no window. Say 30m, 24h, 14d or 2w.", field="window")
        start_ms = max(0, end_ms - length)
    if start_ms >= end_ms:
        raise Problem("bad-window", "The window ends before it starts.", field="end")
    return Window(start_ms, end_ms, app or None, environment or None, canonical(release) if release else None)


TheWindow = Annotated[Window, Depends(the_window)]


def understood(question: str | None, clock: Clock) -> Node | None:
    """Return a question's tree; None where it is absent or nothing but spaces. Raises the problem ``bad-question``."""
    if question is None or not question.strip():
        return None
    try:
        return read(question, clock.now_ms())
    except QuestionTrouble as trouble:
        raise bad_question(trouble) from None


def bad_question(trouble: QuestionTrouble, field: str = "question") -> Problem:
    """Return the problem for an invalid question, with the position of the error."""
    return Problem("bad-question", str(trouble), field=field, position=trouble.position)


def closed(value: int, row_id: int, what: str) -> str:
    """Return a cursor: the sort value and the number of a list's last row."""
    return base64.urlsafe_b64encode(json.dumps([what, value, row_id]).encode()).decode()


def opened(cursor: str | None, what: str) -> tuple[int, int] | None:
    """Parse a cursor of this list; raises the problem ``bad-cursor``."""
    if cursor is None:
        return None
    try:
        was, value, row_id = json.loads(base64.urlsafe_b64decode(cursor))
        if was == what and type(value) is int and type(row_id) is int and max(abs(value), abs(row_id)) < 2**62:
            return value, row_id
    except (ValueError, TypeError):
        pass
    raise Problem("bad-cursor", "This cursor was not given out for this list. Start without one.", field="cursor")
