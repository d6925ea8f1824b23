"""``POST /page`` and ``/page/browser``: reports of pages in browsers. Everybody can read their key, so the origin is
checked, and the rate is bounded. Pages of other origins are allowed by CORS (Fetch standard, *CORS protocol*), for
the key's origins only. Requests without an origin are refused. Programs other than browsers can forge an origin;
they can only report, bounded by key and by address.
"""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Annotated, Final

from fastapi import Query, Request
from fastapi.responses import Response

from obitus.core.origins import origin_of
from obitus.core.standard_reports import NoReports, read
from obitus.service.addresses import address_of
from obitus.service.intake import formats
from obitus.service.intake.bodies import gather
from obitus.service.intake.intake import Intake, TheIntake
from obitus.service.intake.reports import answered, sender_of
from obitus.service.intake.taking import take_body
from obitus.service.intake.writing import Writing
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.secrets import PAGE_KEY_PREFIX, hash_of
from obitus.store.rows.apps import KnownKey

router = Router(tags=["reports"])

BODY_BYTES: Final = 512 * 1024
LINES: Final = 200
REMEMBERED_S: Final = 7200
"""How long a browser may cache the answer to a preflight request."""

PageKey = Annotated[str, Query(max_length=100, description="The key of the page.")]


@router.options("/page", include_in_schema=False)
@router.options("/page/browser", include_in_schema=False)
async def may_report(request: Request, intake: TheIntake, key: PageKey = "") -> Response:
    """Answer a browser's preflight request: whether a page may report."""
    _, origin = await _page(request, intake, key)
    headers = _allowed(origin) | {
        "Access-Control-Allow-Methods": "POST",
        "Access-Control-Allow-Headers": "content-type",
        "Access-Control-Max-Age": str(REMEMBERED_S),
    }
    return Response(status_code=204, headers=headers)


@router.post(
    "/page",
    summary="Send reports of a page",
    response_model=formats.ReportsAnswer,
    openapi_extra={
        "requestBody": {
            "required": True,
            "description": "One report a line, as of `POST /reports`.",
            "content": {"text/plain": {"schema": {"type": "string"}}},
        }
    },
    responses=described(
        "no-key", "unknown-key", "revoked-key", "not-this-key", "not-this-origin", "body-too-large", "body-too-slow",
        "body-cut-off", "all-refused", "too-busy", "day-full", "queue-full", "store-broken",
    ),
)  # fmt: skip
async def page_reports(request: Request, intake: TheIntake, key: PageKey = "", clock: Annotated[str | None, Query(max_length=40, description="What time the browser's clock shows.")] = None) -> Response:  # fmt: skip
    """Store the reports of a page. The key is in the address, since a browser's beacon has no headers of its own."""
    return await _answer(request, intake, key, clock)


@router.post(
    "/page/browser",
    summary="Send what a browser reports by itself",
    response_model=formats.ReportsAnswer,
    openapi_extra={
        "requestBody": {
            "required": True,
            "description": "Reports of the W3C Reporting API (crash, content policy, deprecation, intervention, network error), or one of a content policy.",
            "content": {
                "application/reports+json": {"schema": {"type": "array", "items": {"type": "object"}}},
                "application/csp-report": {"schema": {"type": "object"}},
            },
        }
    },
    responses=described(
        "no-key", "unknown-key", "revoked-key", "not-this-key", "not-this-origin", "body-too-large", "body-too-slow",
        "body-cut-off", "not-browser-reports", "all-refused", "too-busy", "day-full", "queue-full", "store-broken",
    ),
)  # fmt: skip
async def browser_reports(request: Request, intake: TheIntake, key: PageKey = "") -> Response:
    """Store reports that a browser makes itself. A page requests them with `Reporting-Endpoints`, and for network
    errors with `Report-To` and `NEL`."""
    return await _answer(request, intake, key, None, by_browser=True)


async def _answer(request: Request, intake: Intake, key: str, clock: str | None, *, by_browser: bool = False) -> Response:  # fmt: skip
    """Store a body, and let the page read the verdicts."""
    known, origin = await _page(request, intake, key)
    try:
        answer = await _take(request, intake, known, clock, by_browser=by_browser)
    except Problem as problem:
        # Without these the page could not read the reason.
        answer = problem.response()
    answer.headers.update(_allowed(origin))
    return answer


async def _take(request: Request, intake: Intake, key: KnownKey, clock: str | None, *, by_browser: bool) -> Response:
    limits = replace(
        intake.limits,
        body_bytes=min(BODY_BYTES, intake.limits.body_bytes),
        lines=min(LINES, intake.limits.lines),
    )
    async with intake.let_in(key) as turn:
        _asked_again_later(intake, key, request)
        raw, problem = await gather(request, limits, turn)
        size = sum(map(len, raw))
        wait_s = max(
            intake.pages_of_key.take(str(key.id), size),
            intake.pages_of_address.take(address_of(request.scope), size),
        )
        if wait_s:
            raise _too_much(wait_s)
        if by_browser:
            raw = await turn.work(_of_browser, raw, intake.clock.now_ms())
        sender = sender_of(intake, key, clock)
        intake.clients.note(key.app, "page", "", intake.clock.now_ms())
        writing = Writing(intake, turn, sender)
        body, verdicts = await take_body(writing, raw, "")
    return answered(intake, sender, sorted(verdicts, key=lambda verdict: verdict.line), problem or body.problem)


def _of_browser(raw: list[bytes], now_ms: int) -> list[bytes]:
    """Return a browser's reports as lines; raises a problem."""
    try:
        reports = read(b"".join(raw), now_ms)
    except NoReports as trouble:
        raise Problem("not-browser-reports", f"These are no reports of a browser: {trouble}.") from None
    return [json.dumps(one, ensure_ascii=False).encode() + b"\n" for one in reports]


def _asked_again_later(intake: Intake, key: KnownKey, request: Request) -> None:
    """Refuse a sender beyond its limit before its body is read; raises a problem."""
    wait_s = max(intake.pages_of_key.owed_s(str(key.id)), intake.pages_of_address.owed_s(address_of(request.scope)))
    if wait_s:
        raise _too_much(wait_s)


def _too_much(wait_s: float) -> Problem:
    advice = (
        "This page, or other senders from its address, report more than they may. Reports that it keeps can come later."
    )
    return Problem("too-busy", advice, retry_after_s=min(60, 1 + int(wait_s)))


async def _page(request: Request, intake: Intake, secret: str) -> tuple[KnownKey, str]:
    """Return the key of a page and the origin that it reports from; raises a problem."""
    if not secret:
        raise Problem("no-key", "Say the page's key: /page?key=opage_…")
    if not secret.startswith(PAGE_KEY_PREFIX):
        raise Problem("not-this-key", "Only a key for pages reports here. Make one: obitus app key APP --page ORIGIN")
    key_hash = hash_of(secret)
    key = intake.keys.known(key_hash) or await intake.gate.threads.do(intake.keys.find, key_hash)
    if key is None or not key.origins:
        intake.refuse("", "unknown-key", "A page reported with a key that no app has.")
        raise Problem("unknown-key", "No app has this key. Compare the page's with Set-up, or make a new one.")
    if key.revoked_ms is not None:
        raise Problem("revoked-key", f"This key of {key.app} was revoked. Make a new one in Set-up.")
    origins = request.headers.getlist("origin")
    origin = origin_of(origins[0]) if len(origins) == 1 else None
    if origin is None or origin not in json.loads(key.origins):
        reason = f"A page of {(origins or ['no origin'])[0][:100]!r} is not let in with this key."
        intake.refuse(key.app, "not-this-origin", f"{reason} Make one for that origin, if the page is yours.")
        raise Problem("not-this-origin", reason)
    return key, origin


def _allowed(origin: str) -> dict[str, str]:
    return {"Access-Control-Allow-Origin": origin, "Vary": "Origin"}
