"""The service as an ASGI application."""

from __future__ import annotations

import asyncio
from functools import cache, partial
from typing import Annotated

import anyio.to_thread
from fastapi import Depends, FastAPI, Header, Request
from fastapi.responses import JSONResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

from obitus.core.clock import to_text
from obitus.core.version import VERSION
from obitus.service.api import acts as api_acts
from obitus.service.api import against as api_against
from obitus.service.api import alert_rules as api_alert_rules
from obitus.service.api import alerts as api_alerts
from obitus.service.api import answers, decisions
from obitus.service.api import apps as api_apps
from obitus.service.api import calls as api_calls
from obitus.service.api import channels as api_channels
from obitus.service.api import check_lists as api_check_lists
from obitus.service.api import document as api_document
from obitus.service.api import earlier as api_earlier
from obitus.service.api import grouping as api_grouping
from obitus.service.api import handing as api_handing
from obitus.service.api import issues as api_issues
from obitus.service.api import kept as api_kept
from obitus.service.api import lists as api_lists
from obitus.service.api import log_orders as api_log_orders
from obitus.service.api import looking as api_looking
from obitus.service.api import maps as api_maps
from obitus.service.api import me as api_me
from obitus.service.api import metrics as api_metrics
from obitus.service.api import notes as api_notes
from obitus.service.api import now as api_now
from obitus.service.api import openid as api_openid
from obitus.service.api import passing as api_passing
from obitus.service.api import people as api_people
from obitus.service.api import person as api_person
from obitus.service.api import quiet as api_quiet
from obitus.service.api import records as api_records
from obitus.service.api import releases as api_releases
from obitus.service.api import reproducing as api_reproducing
from obitus.service.api import rules as api_rules
from obitus.service.api import saved as api_saved
from obitus.service.api import seen as api_seen
from obitus.service.api import shift as api_shift
from obitus.service.api import sign_in as api_sign_in
from obitus.service.api import tail as api_tail
from obitus.service.api import templates as api_templates
from obitus.service.api import timeline as api_timeline
from obitus.service.api import tracepoints as api_tracepoints
from obitus.service.api.answering_problems import add_handlers
from obitus.service.dependencies import SCOPE, TheClock, TheLive, TheRecords
from obitus.service.front import Front
from obitus.service.guard import Guard
from obitus.service.intake import page_reports, reports, telemetry, tracepoints
from obitus.service.live import WIRE, Live, LiveResponse
from obitus.service.pages import browser_client, client_wheel, console, description
from obitus.service.problems import Problem, described, say_problems
from obitus.service.routing import Router, compare_by_first_words
from obitus.service.sign_in.access import SignedIn, who_asks
from obitus.service.sign_in.rights import say_needs
from obitus.service.wiring import Parts
from obitus.store import events, people
from obitus.store.events import Event
from obitus.store.records import Records

_ABOUT = """Captures failures, groups them into issues, tracks regressions across releases.

Reports come in at `POST /reports` with a reporting key. Everything under `/api` needs a session or a personal token.
Errors are problem details (RFC 9457) with a stable `slug`."""

router = Router(tags=["service"])

MOST_MISSED = 300
"""Missed events that a listener gets one by one; of more it only learns that there were some."""
PAGES_AT_ONCE = 8
"""Answers that are computed at the same time: one interpreter is not faster with forty threads."""


@router.get(
    "/health", summary="Whether the service lives and is ready", responses={503: {"model": answers.HealthAnswer}}
)
def health(records: TheRecords, clock: TheClock) -> Response:
    """Return whether the service lives and is ready to store reports, with the reasons why not (503)."""
    reasons = []
    if not records.writer.alive:
        reasons.append("The writer does not take work.")
    elif records.writer.trouble is not None:
        reasons.append(f"The latest write failed: {records.writer.trouble}")
    try:
        records.reader.rows("SELECT 1 FROM apps LIMIT 1")
    except Exception as error:
        reasons.append(f"The store cannot be read: {error}.")
    answer = answers.HealthAnswer(
        live=True, ready=not reasons, reasons=reasons, version=VERSION, time=to_text(clock.now_ms())
    )
    return JSONResponse(answer.model_dump(), status_code=503 if reasons else 200)


async def _last_event(
    records: TheRecords,
    live: TheLive,
    known_to: Annotated[
        str | None,
        Header(
            alias="Last-Event-ID",
            max_length=20,
            description="The number of the last event that arrived: the stream continues after it.",
        ),
    ] = None,
) -> tuple[int, bool]:
    """Return the number of the last event that a listener has, and whether it was connected before."""
    if known_to is not None and known_to.isascii() and known_to.isdigit():
        return int(known_to), True
    # Hundreds reconnect at once after an interruption: the stream's own buffer costs no query.
    return live.latest or await asyncio.to_thread(events.newest, records.reader), False


@router.get(
    "/api/live",
    summary="Events as they happen",
    response_class=LiveResponse,
    responses=described("not-signed-in", "too-busy")
    | {200: {"content": {"text/event-stream": {"schema": {"type": "string"}}}, "description": "Server-sent events."}},
)
async def live(
    request: Request,
    records: TheRecords,
    clock: TheClock,
    live: TheLive,
    person: SignedIn,
    last_event: Annotated[tuple[int, bool], Depends(_last_event)],
) -> Response:
    """Stream server-sent events: events with their numbers, and `reports` (app, environment, issues) after each
    commit. Without `Last-Event-ID` it begins with new events. `missed` says that there were too many events: load
    the page again.
    """
    if live.is_full(person.pass_id):
        raise Problem("too-busy", "Too many consoles listen. Reload later.", retry_after_s=30)

    def may_still() -> bool:
        return people.is_good(records.reader, person.pass_id, clock.now_ms())

    number, was_there = last_event
    narrowed = not person.sight.is_whole
    missed = (lambda: None if narrowed else _missed(records, number)) if was_there else None
    stream = live.listen(person.pass_id, may_still, number, missed, narrowed=narrowed, wire=request.scope.get(WIRE))
    return LiveResponse(stream, media_type="text/event-stream")


def _missed(records: Records, since: int) -> list[Event] | None:
    """Return the events after a number; None where they are too many, or the first of them are no longer kept."""
    missed = events.after(records.reader, since, MOST_MISSED + 1)
    is_whole = len(missed) <= MOST_MISSED and (not missed or missed[0].id == since + 1)
    return missed if is_whole and since <= events.newest(records.reader) else None


@cache
def make_app() -> FastAPI:
    """Return the routes: one application for all services of this process, since building it takes most of a tenth of a second."""
    app = FastAPI(
        title="Obitus",
        version=VERSION,
        description=_ABOUT,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
        separate_input_output_schemas=False,
        responses=described("bad-request"),
    )
    for part in (
        reports.router,
        page_reports.router,
        telemetry.router,
        tracepoints.router,
        api_issues.router,
        decisions.router,
        api_handing.router,
        api_earlier.router,
        api_looking.router,
        api_shift.router,
        api_lists.router,
        api_reproducing.router,
        api_notes.router,
        api_check_lists.router,
        api_document.router,
        api_apps.router,
        api_sign_in.router,
        api_openid.router,
        api_me.router,
        api_people.router,
        api_acts.router,
        api_rules.router,
        api_grouping.router,
        api_releases.router,
        api_maps.router,
        api_calls.router,
        api_quiet.router,
        api_alerts.router,
        api_alerts.open_router,
        api_alert_rules.router,
        api_channels.router,
        api_passing.router,
        api_metrics.router,
        api_person.router,
        api_log_orders.router,
        api_kept.router,
        api_against.router,
        api_now.router,
        api_timeline.router,
        api_tracepoints.router,
        api_saved.router,
        api_templates.router,
        api_records.router,
        api_records.together_router,
        api_tail.router,
        api_seen.router,
        router,
        description.router,
        client_wheel.router,
        browser_client.router,
        console.router,
    ):
        app.include_router(part)
    compare_by_first_words(app.router)
    add_handlers(app, lambda request: console.nowhere(request.scope[SCOPE].settings))
    say_problems(app)
    say_needs(app)
    return app


def served(parts: Parts) -> ASGIApp:
    """Return the application with all its middleware; each request has the parts in its scope."""
    app = make_app()

    async def with_parts(scope: Scope, receive: Receive, send: Send) -> None:
        await app({**scope, SCOPE: parts}, receive, send)

    limits = parts.settings.limits
    front = Front(
        with_parts,
        limits,
        partial(who_asks, parts.passes, parts.intake),
        parts.patience,
    )
    return Guard(front, parts.settings)


def begin(live: Live) -> None:
    """Bind the service to the current event loop: live streams use it, and the bound on concurrent answers."""
    live.use_loop(asyncio.get_running_loop())
    anyio.to_thread.current_default_thread_limiter().total_tokens = PAGES_AT_ONCE
