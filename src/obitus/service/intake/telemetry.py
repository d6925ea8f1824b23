"""``POST /v1/logs`` and ``/v1/traces``: OTLP/HTTP, protobuf and JSON, with a reporting key as bearer token.

Source: the OpenTelemetry protocol specification 1.x, OTLP/HTTP: encodings, partial success, which answers are retried.
"""

from __future__ import annotations

import json
import re
from dataclasses import replace
from typing import Annotated, Any, Final

from fastapi import Request, Security
from fastapi.responses import Response
from fastapi.security.http import HTTPAuthorizationCredentials
from pydantic import BaseModel, Field

from obitus.core import telemetry
from obitus.core.telemetry import Source
from obitus.service.intake import export_bounds, exports
from obitus.service.intake.bodies import SECONDS_OF_A_WRITE, Pass, gather
from obitus.service.intake.exports import MESSAGES, PROTOBUF, Export, Signal, SourceReports
from obitus.service.intake.intake import Intake, TheIntake
from obitus.service.intake.lines import Refusal
from obitus.service.intake.prepare import Ready, Sender
from obitus.service.intake.preparing import apart, is_small, lines_prepared, while_small
from obitus.service.intake.processes import ProcessEnded, beside
from obitus.service.intake.senders import reporting_key_scheme, sender_key
from obitus.service.intake.writing import Writing
from obitus.service.problems import Problem
from obitus.service.routing import Router
from obitus.store import apps, names
from obitus.store.errors import AlreadyThere, StoreError
from obitus.store.rows.apps import KnownKey

MOST_APPS: Final = 300
"""Most apps made by keys that may add apps."""
MOST_NEW_APPS: Final = 20

router = Router(prefix="/v1", tags=["OpenTelemetry"])
_REQUEST_BODY = {
    "requestBody": {
        "required": True,
        "content": {
            PROTOBUF: {"schema": {"type": "string", "format": "binary"}},
            "application/json": {"schema": {"type": "object"}},
        },
    }
}


class StatusAnswer(BaseModel):
    """An error in OTLP's form: a google.rpc.Status."""

    code: int = Field(description="A code of google.rpc.Code.")
    message: str = Field(description="The slug of the problem, and what to do.")


class ExportAnswer(BaseModel):
    """The result of an export; empty where everything was stored."""

    partialSuccess: dict[str, str] | None = Field(default=None, description="How many records were rejected, and why.")


_ANSWERS: Final[dict[int | str, dict[str, Any]]] = {
    200: {"model": ExportAnswer},
    **{
        status: {"model": StatusAnswer, "description": "A status message, in the encoding of the request."}
        for status in (400, 401, 403, 408, 413, 415, 429, 500, 503, 507)
    },
}
# The codes of google.rpc.Status that go with an HTTP status.
_CODES: Final = {400: 3, 401: 16, 403: 7, 408: 4, 413: 3, 415: 3, 429: 8, 503: 14, 507: 8}
_APP_NAME = re.compile(r"[^a-z0-9]+")


@router.post(
    "/logs",
    summary="Send OpenTelemetry log records",
    openapi_extra=_REQUEST_BODY,
    responses=_ANSWERS,
    response_class=Response,
)
async def logs(
    request: Request,
    intake: TheIntake,
    _: Annotated[HTTPAuthorizationCredentials | None, Security(reporting_key_scheme)] = None,
) -> Response:
    """Store an export of logs: exceptions become failures, everything else log records."""
    return await _export(request, intake, "logs")


@router.post(
    "/traces",
    summary="Send OpenTelemetry spans",
    openapi_extra=_REQUEST_BODY,
    responses=_ANSWERS,
    response_class=Response,
)
async def traces(
    request: Request,
    intake: TheIntake,
    _: Annotated[HTTPAuthorizationCredentials | None, Security(reporting_key_scheme)] = None,
) -> Response:
    """Store an export of spans: exceptions become failures, server and consumer spans and jobs runs, client spans their steps."""
    return await _export(request, intake, "traces")


async def _export(request: Request, intake: Intake, signal: Signal) -> Response:
    media = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    try:
        key = await sender_key(intake, request.headers.get("authorization", ""))
        if media not in (PROTOBUF, "application/json"):
            raise Problem("content-not-supported", f"{media!r} is not supported. Send {PROTOBUF} or application/json.")
        async with intake.let_in(key) as turn:
            raw, problem = await gather(request, intake.limits_of_telemetry, turn)
            if problem is not None:
                raise problem
            encoding = request.headers.get("content-encoding", "")
            async with turn.lane:
                parts = await _read(intake, turn, key, Export(signal, media, raw, encoding, intake.clock.now_ms()))
                rejected, reasons = await _take(intake, turn, key, parts)
    except Problem as problem:
        return _refused(problem, media)
    answer: dict[str, Any] = {}
    if rejected:
        intake.refuse(key.app, "not-otlp", reasons)
        answer = {"partialSuccess": {MESSAGES[signal][2]: str(rejected), "errorMessage": reasons}}
    if media == PROTOBUF:
        response = MESSAGES[signal][1]()
        if rejected:
            name = "rejected_log_records" if signal == "logs" else "rejected_spans"
            setattr(response.partial_success, name, rejected)
            response.partial_success.error_message = reasons
        return Response(response.SerializeToString(), media_type=PROTOBUF)
    return Response(json.dumps(answer), media_type="application/json")


async def _read(intake: Intake, held: Pass, key: KnownKey, export: Export) -> list[SourceReports]:
    """Parse an export: a small one here, a large one in a worker process."""
    limits, sender = intake.limits_of_telemetry, str(key.id)
    if is_small(held, export.raw, limits):
        try:
            return await held.work(exports.read, export, while_small(limits), intake.steps.of_sender(sender))
        except Problem as problem:
            if problem.slug != "inflates-too-large":
                raise
    try:
        parts, known = await apart(
            intake,
            held,
            exports.read_apart,
            replace(export, raw=beside(export.raw)),
            limits,
            sender,
            intake.steps.all_of(sender),
        )
    except ProcessEnded:
        raise Problem("not-otlp", "The service failed on this export. Send smaller batches.") from None
    intake.steps.add_all(sender, known)
    return parts


async def _take(intake: Intake, held: Pass, key: KnownKey, parts: list[SourceReports]) -> tuple[int, str]:
    """Write everything; return how many records were rejected, and why."""
    rejected: set[int] = set()
    reasons: list[str] = []
    left_out = sum(part.left_out for part in parts)
    if left_out:
        reasons.append(
            f"{left_out:,} records or more were left out: an export may have {telemetry.MOST_RECORDS:,} of "
            f"{telemetry.MOST_RESOURCES:,} resources. Send smaller batches."
        )
    new_apps = 0
    for part in parts:
        for number, reason in part.refused:
            rejected.add(number)
            reasons.append(f"record {number}: {reason}")
        if not part.lines:
            continue
        sender, is_new = await intake.gate.threads.do(_sender, intake, key, part.source, new_apps < MOST_NEW_APPS)
        new_apps += is_new
        writing = Writing(intake, held, sender)
        outcomes = await lines_prepared(intake, held, part.lines, sender, writing.begin)
        held.spend(SECONDS_OF_A_WRITE * len(part.lines))
        taken = iter(await writing.write([one for one in outcomes if isinstance(one, Ready)]))
        for number, outcome in zip(part.numbers, outcomes, strict=True):
            result = next(taken) if isinstance(outcome, Ready) else None
            trouble = (
                outcome.reason
                if isinstance(outcome, Refusal)
                else str(result)
                if isinstance(result, StoreError)
                else None
            )
            if trouble is not None:
                rejected.add(number)
                reasons.append(f"record {number}: {trouble}")
    return len(rejected) + left_out, "; ".join(reasons[:5])[:1000]


def _sender(intake: Intake, key: KnownKey, source: Source, may_make: bool) -> tuple[Sender, bool]:
    """Return the app of reports, and whether it is new: the key's app or, if the key may add apps, the named app and environment."""
    is_new = False
    app_id, app, environment = key.app_id, key.app, key.environment
    if key.may_add_apps:
        name = _APP_NAME.sub("-", source.app.lower()).strip("-")
        # The name of an app begins with a letter, so that it can be part of an address.
        name = (name if name[:1].isalpha() else f"app-{name}" if name else "")[:60].rstrip("-")
        app_ids = {row.name: int(row.id) for row in apps.apps(intake.records.reader)} if name and name != app else {}
        if name in app_ids:
            app_id, app = app_ids[name], name
        elif name and name != app and may_make and len(app_ids) < MOST_APPS:
            app_id, app, is_new = _new_app(intake, name), name, True
        elif name and name != app:
            reason = f"{name} is not made: there may be {MOST_APPS} apps, and {MOST_NEW_APPS} new ones in one export."
            intake.remark(app, "too-many-apps", reason)
        environment = _environment(intake, app_id, app, source.environment[:60], environment)
    return Sender(app_id, app, environment, intake.clock.now_ms()), is_new


def _environment(intake: Intake, app_id: int, app: str, named: str, else_: str) -> str:
    """Return the named environment, while the app does not have too many; else the key's."""
    if not named or named == else_ or names.has_environment(intake.records.reader, app_id, named):
        return named or else_
    if intake.records.writer.run(lambda c: names.environment(c, app_id, named)):
        return named
    reason = f"{named} is not kept as an environment of its own: the app has {names.MOST_ENVIRONMENTS} environments. Its reports count for {else_}."
    intake.remark(app, "too-many-environments", reason)
    return else_


def _new_app(intake: Intake, name: str) -> int:
    now_ms = intake.clock.now_ms()
    try:
        return intake.records.writer.run(lambda c: apps.add_app(c, name, "opentelemetry", now_ms))
    except AlreadyThere:
        return int(apps.app_named(intake.records.reader, name).id)


def _refused(problem: Problem, media: str) -> Response:
    """Answer with a google.rpc.Status in the sender's own encoding, as the protocol asks."""
    response = problem.response()
    status = response.status_code
    code, message = _CODES.get(status, 13), f"{problem.slug}: {problem.detail}"
    headers = {
        name: value for name, value in response.headers.items() if name.lower() in ("retry-after", "www-authenticate")
    }
    if media == PROTOBUF:
        body = b"\x08" + bytes([code]) + export_bounds.message(2, message.encode())
        return Response(body, status, headers, media_type=PROTOBUF)
    return Response(json.dumps({"code": code, "message": message}), status, headers, media_type="application/json")
