"""``POST /reports``: reports as NDJSON, which are on disk before the answer is sent."""

from __future__ import annotations

from email.message import Message
from typing import Annotated, Any

import pydantic_core
from fastapi import Header, Request, Security
from fastapi.responses import Response
from fastapi.security.http import HTTPAuthorizationCredentials

from obitus.core.clock import clock_skew_ms, shown_ms
from obitus.core.version import REPORT_FORMAT
from obitus.service.intake import formats
from obitus.service.intake.bodies import gather
from obitus.service.intake.intake import Intake, TheIntake
from obitus.service.intake.prepare import Sender
from obitus.service.intake.senders import reporting_key_scheme, sender_key
from obitus.service.intake.taking import take_body
from obitus.service.intake.writing import Writing
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.store.rows.apps import KnownKey

router = Router(tags=["reports"])
CLOCK_OFF_MS = 5 * 60_000
MOST_CLIENT = 60
"""Characters of a client's name."""
_CONTENT_TYPES = ("application/x-ndjson", "application/jsonl", "application/json", "text/plain", "")
_REQUEST_BODY = {
    "requestBody": {
        "required": True,
        "description": "One report a line. `Content-Encoding` may be `gzip` or `zstd`. The parameter `version` of the media type is the version of the report format: 1, also when absent.",
        "content": {"application/x-ndjson": {"schema": {"type": "string"}}},
    }
}


@router.get("/reports/schema", summary="The report format, as JSON Schema")
def schema() -> dict[str, Any]:
    """Return the JSON Schema of one line of `POST /reports`."""
    return formats.json_schema()


@router.post(
    "/reports",
    summary="Send reports",
    response_model=formats.ReportsAnswer,
    openapi_extra=_REQUEST_BODY,
    responses=described(
        "no-key", "unknown-key", "revoked-key", "not-a-reporting-key", "body-too-large", "inflates-too-large",
        "body-too-slow", "body-cut-off", "encoding-broken", "encoding-not-supported", "content-not-supported",
        "all-refused", "format-not-supported", "too-busy", "day-full", "queue-full", "store-broken",
    ),
)  # fmt: skip
async def reports(
    request: Request,
    intake: TheIntake,
    _: Annotated[HTTPAuthorizationCredentials | None, Security(reporting_key_scheme)] = None,
    obitus_clock: Annotated[
        str | None,
        Header(
            description="What time the sender's clock shows as it sends, RFC 3339. With it, a wrong clock is corrected."
        ),
    ] = None,
) -> Response:
    """Store a batch of reports, one a line. The answer comes after everything counted as `stored` is on disk. Good lines of a bad batch are kept; each line has
    its verdict. Sending the same id again is harmless.
    """
    key = await sender_key(intake, request.headers.get("authorization", ""))
    content_type, version, client = _media_type(request.headers.get("content-type", ""))
    if content_type not in _CONTENT_TYPES:
        raise Problem("content-not-supported", f"{content_type[:60]!r} is not supported. Send application/x-ndjson.")
    async with intake.let_in(key) as turn:
        _check_format(intake, key, version)
        if client:
            intake.clients.note(key.app, client, "", intake.clock.now_ms())
        raw, problem = await gather(request, intake.limits, turn)
        theirs_ms = shown_ms(obitus_clock)
        if theirs_ms is not None:
            intake.clock.note_sender(theirs_ms)
        sender = sender_of(intake, key, obitus_clock)
        if abs(sender.skew_ms) > CLOCK_OFF_MS:
            intake.remark(key.app, "clock-off", _clock_said(sender.skew_ms))
        writing = Writing(intake, turn, sender)
        body, verdicts = await take_body(writing, raw, request.headers.get("content-encoding", ""))
        # The reason why sending was interrupted also explains the truncated compressed data.
        problem = problem or body.problem
    limit = intake.limits.line_bytes
    verdicts += [
        formats.LineVerdict(
            line=number,
            verdict="refused",
            slug="line-too-long",
            reason=f"A line may have up to {limit:,} bytes. Send less: fewer frames, shorter values.",
        )
        for number in body.overlong
    ]
    verdicts.sort(key=lambda verdict: verdict.line)
    wants_tracepoints = "obitus-tracepoints" in request.headers
    return answered(intake, sender, verdicts, problem, wants_tracepoints=wants_tracepoints)


def _media_type(header: str) -> tuple[str, str, str]:
    """Return a media type, and its parameters ``version`` and ``client``; "" where they are missing."""
    message = Message()
    message["content-type"] = header
    version, client = (message.get_param(name, "") for name in ("version", "client"))
    return (
        header.partition(";")[0].strip().lower(),
        version.strip() if isinstance(version, str) else "",
        client.strip()[:MOST_CLIENT] if isinstance(client, str) else "",
    )


def _check_format(intake: Intake, key: KnownKey, given: str) -> None:
    if given in ("", str(REPORT_FORMAT)):
        return
    detail = (
        f"The sender writes version {given[:20]!r} of the report format; this service reads {REPORT_FORMAT}. "
        "Bring the older of the two up to date."
    )
    intake.refuse(key.app, "format-not-supported", detail)
    raise Problem("format-not-supported", detail)


def _clock_said(skew_ms: int) -> str:
    ahead = "behind" if skew_ms > 0 else "ahead"
    return f"The app's clock is {abs(skew_ms) / 1000:,.0f} s {ahead}. Its times are corrected; set it all the same."


def sender_of(intake: Intake, key: KnownKey, sent: str | None) -> Sender:
    """Return the sender of a key; ``sent`` is the time of its clock."""
    now_ms = intake.clock.now_ms()
    flooding = intake.flooding.of(key.app_id, now_ms)
    return Sender(key.app_id, key.app, key.environment, now_ms, clock_skew_ms(sent, now_ms), flooding)


def _log_orders(intake: Intake, sender: Sender) -> list[formats.LogOrderPart] | None:
    """Return the active orders for the sender's loggers; of two for one logger, that for its environment."""
    found = {
        order.logger: formats.LogOrderPart(
            logger=order.logger, severity=order.severity, seconds=(order.until_ms - sender.received_ms) / 1000
        )
        for order in sorted(intake.log_orders.get(sender.app_id, ()), key=lambda order: bool(order.environment))
        if order.environment in ("", sender.environment) and order.until_ms > sender.received_ms
    }
    return list(found.values()) or None


def answered(
    intake: Intake,
    sender: Sender,
    verdicts: list[formats.LineVerdict],
    problem: Problem | None,
    *,
    wants_tracepoints: bool = False,
) -> Response:
    """Return the answer to a sender: a verdict for each of its lines."""
    counts = {"stored": 0, "already-there": 0, "refused": 0}
    for verdict in verdicts:
        counts[verdict.verdict] += 1
    answer = formats.ReportsAnswer(
        stored=counts["stored"],
        already_there=counts["already-there"],
        refused=counts["refused"],
        lines=verdicts,
        log_orders=_log_orders(intake, sender),
        tracepoints=intake.tracepoints.list_for(sender.app_id, sender.environment) if wants_tracepoints else None,
    )
    if problem is None and verdicts and counts["refused"] == len(verdicts):
        problem = Problem("all-refused", "Every line was refused; each verdict says why.")
    if problem is not None:
        intake.refuse(sender.app, problem.slug, problem.detail)
        problem.extension |= answer.model_dump(exclude_none=True)
        return problem.response()
    for verdict in verdicts:
        if verdict.verdict == "refused":
            intake.refuse(sender.app, verdict.slug or "", verdict.reason or "")
    return Response(pydantic_core.to_json(answer, exclude_none=True), media_type="application/json")
