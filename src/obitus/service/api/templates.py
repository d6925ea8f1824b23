"""``/api/records/logs/templates``: log records grouped by the templates of their messages."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Annotated, Final

from fastapi import Depends, Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from obitus.core.clock import to_text
from obitus.core.mining import VALUE
from obitus.core.severity import SEVERITIES
from obitus.service.api.answers import Time
from obitus.service.api.as_files import NDJSON
from obitus.service.api.asked import Question, TheWindow, understood
from obitus.service.api.records import PROGRESS_S, asked_for
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import signed_in
from obitus.store.asking.templating import TemplateCount, Templated, templates

router = Router(
    prefix="/api/records",
    tags=["records"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "query-too-long", "store-broken"),
)

LIMIT_S: Final = 10.0
MOST_FRAGMENTS: Final = 3
SHORTEST_FRAGMENT: Final = 3


class TemplateAnswer(BaseModel):
    """Log records that differ only in their values."""

    text: str = Field(description="The template; one that was found has … for each value.")
    found: bool = Field(description="Whether it was found in many messages, and did not come with the records.")
    records: int
    severity: str = Field(description="The worst of them.")
    latest: int = Field(description="The number of one of the latest records.")
    question: str = Field(description="A question that finds these records, as closely as possible.")


class TemplatesAnswer(BaseModel):
    """Templates and the progress. Newest records are read first."""

    records: int
    templates: list[TemplateAnswer] = Field(description="Those that most records have first.")
    templates_in_all: int
    not_listed: int = Field(default=0, description="Records with templates beyond those that are kept apart.")
    back_to: Time
    done: bool
    cut: str | None = None


@router.get(
    "/logs/templates",
    summary="Log records by template",
    responses=described("bad-window", "bad-question") | {200: {"content": {NDJSON: {}}}},
)
def by_template(
    request: Request,
    records: TheRecords,
    clock: TheClock,
    window: TheWindow,
    question: Question = None,
    most: Annotated[int, Query(ge=1, le=1000, description="Most templates to return.")] = 100,
) -> TemplatesAnswer:
    """Group log records by their template; records without one by a template found from many of them. For
    `application/x-ndjson` it answers with a line now and then, each with further progress.
    """
    node = asked_for(window, understood(question, clock))
    reading = templates(records.reader, records.days, node, window.from_ms, window.to_ms, limit_s=LIMIT_S)
    if NDJSON in request.headers.get("accept", ""):
        return StreamingResponse(_progress(reading, most), media_type=NDJSON)  # type: ignore[return-value]
    *_, whole = reading
    return _answer(whole, most)


def _progress(reading: Iterator[Templated], most: int) -> Iterator[str]:
    """Yield an answer as soon as there is one, then at growing intervals, since each needs a merge of all templates."""
    said_s, pause_s = 0.0, PROGRESS_S
    for part in reading:
        if part.going.done or time.monotonic() - said_s >= pause_s:
            began_s = time.monotonic()
            yield _answer(part, most).model_dump_json() + "\n"
            said_s = time.monotonic()
            pause_s = max(PROGRESS_S, 4 * (said_s - began_s))


def _answer(templated: Templated, most: int) -> TemplatesAnswer:
    shown, in_all = templated.commonest(most)
    return TemplatesAnswer(
        records=templated.records,
        templates=[
            TemplateAnswer(
                text=template.text,
                found=template.found,
                records=template.records,
                severity=SEVERITIES[template.severity],
                latest=template.latest,
                question=_question(template),
            )
            for template in shown
        ],
        templates_in_all=in_all,
        not_listed=templated.beyond,
        back_to=to_text(templated.going.back_to_ms),
        done=templated.going.done,
        cut=templated.going.cut or None,
    )


def _question(template: TemplateCount) -> str:
    """Return a question for the records of a template; for a found one by its constant words."""
    if not template.found:
        return f"template={_quoted(template.text)}"
    fragments = [part.strip() for part in template.text.split(VALUE)]
    longest = sorted((part for part in fragments if len(part) >= SHORTEST_FRAGMENT), key=len, reverse=True)
    return " ".join(f"message~{_quoted(part)}" for part in longest[:MOST_FRAGMENTS])


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
