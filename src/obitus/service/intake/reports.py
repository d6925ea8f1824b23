"""``POST /reports``: reports as NDJSON, which are on disk before the answer is sent."""

from __future__ import annotations

import asyncio
import logging
import sqlite3
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from email.message import Message
from typing import Annotated, Any

import pydantic_core
from fastapi import Header, Request, Security
from fastapi.responses import Response
from fastapi.security.http import HTTPAuthorizationCredentials

from obitus.core.clock import clock_skew_ms, shown_ms
from obitus.core.version import REPORT_FORMAT
from obitus.service.intake import formats
from obitus.service.intake.bodies import SECONDS_OF_A_WRITE, Pass, gather
from obitus.service.intake.heavy import Outcomes
from obitus.service.intake.inflating import Body
from obitus.service.intake.intake import Intake, TheIntake
from obitus.service.intake.lines import Refusal
from obitus.service.intake.prepare import Ready, Sender
from obitus.service.intake.preparing import body_prepared, lines_prepared
from obitus.service.intake.senders import reporting_key_scheme, sender_key
from obitus.service.problems import Problem, as_problem, described
from obitus.service.routing import Router
from obitus.store import key_use
from obitus.store.errors import StoreBroken, StoreBusy, StoreError, StoreTrouble
from obitus.store.intake import Taken, take
from obitus.store.names import MOST_ENTRY_POINTS, OTHERS
from obitus.store.releases import MOST_RELEASES
from obitus.store.rows.apps import KnownKey

_log = logging.getLogger("obitus.service")

router = Router(tags=["reports"])
CLOCK_OFF_MS = 5 * 60_000
BEYOND = f"release: the app has {MOST_RELEASES:,} releases already, so this report counts as one without a release. Name releases, not builds or commits."
AMONG_OTHERS = f"entry_point: the app has {MOST_ENTRY_POINTS:,} entry points already, so these runs are counted with others as “{OTHERS}”. Name routes, not addresses."
ONLY_COUNTED = (
    "Its issue fails so often at once that this one was counted and not kept whole; a kept one like it represents it."
)
MOST_AT_ONCE = 500
FEW_AT_ONCE = 50
"""Log records of one batch that are written together; and the same while others wait."""
WEIGHT = {"failure": 10, "tally": 4, "run": 2, "log": 1}
"""How many log records cost as much to write as one report of a kind."""
MOST_DAYS_AT_ONCE = 6
"""Days whose reports are written together: each has its own file."""
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
    async with intake.let_in(key) as held:
        _check_format(intake, key, version)
        if client:
            intake.clients.note(key.app, client, "", intake.clock.now_ms())
        raw, problem = await gather(request, intake.limits, held)
        theirs_ms = shown_ms(obitus_clock)
        if theirs_ms is not None:
            intake.clock.heard(theirs_ms)
        sender = sender_of(intake, key, obitus_clock)
        if abs(sender.skew_ms) > CLOCK_OFF_MS:
            intake.remark(key.app, "clock-off", _clock_said(sender.skew_ms))
        async with held.lane:
            encoding = request.headers.get("content-encoding", "")
            body, outcomes = await body_prepared(intake, held, raw, encoding, sender)
        # The reason why sending was interrupted also explains the truncated compressed data.
        problem = problem or body.problem
        # The next body is processed meanwhile: the writer has a queue of its own.
        verdicts = await take_all(intake, held, body, outcomes, sender)
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


async def take_all(
    intake: Intake, held: Pass, body: Body, outcomes: Outcomes, sender: Sender
) -> list[formats.LineVerdict]:
    """Write prepared reports; return a verdict for each line."""
    if not outcomes:
        return []
    ready = {place: outcome for place, outcome in enumerate(outcomes) if isinstance(outcome, Ready)}
    held.spend(SECONDS_OF_A_WRITE * sum(map(_weight, ready.values())) / WEIGHT["failure"])
    for one in ready.values():
        if one.filtered is not None:
            intake.remark(sender.app, "filtered", one.filtered)
    taken = dict(zip(ready, await write(intake, held, list(ready.values()), sender), strict=True))
    await _keep_whole(intake, held, body, outcomes, taken, sender)
    verdicts = []
    for place, ((number, _), outcome) in enumerate(zip(body.lines, outcomes, strict=True)):
        if isinstance(outcome, Refusal):
            verdicts.append(
                formats.LineVerdict(
                    line=number,
                    verdict="refused",
                    id=outcome.id,
                    slug=outcome.slug,
                    field=outcome.field,
                    reason=outcome.reason,
                )
            )
            continue
        result = taken[place]
        if isinstance(result, Taken):
            verdicts.append(
                formats.LineVerdict(
                    line=number,
                    verdict="already-there" if result.already_there else "stored",
                    id=outcome.id,
                    issue=result.issue_id,
                    notes=[*outcome.notes, *_bounded(result)] or None,
                )
            )
        else:
            verdicts.append(
                formats.LineVerdict(
                    line=number, verdict="refused", id=outcome.id, slug="store-broken", reason=str(result)
                )
            )
    return verdicts


async def _keep_whole(
    intake: Intake, held: Pass, body: Body, outcomes: Outcomes, taken: dict[int, Taken | StoreError], sender: Sender
) -> None:
    """Prepare and write those that were to be counted but are to be kept whole, and correct their results. ``taken``
    is by index in ``outcomes``.
    """
    wanting = [place for place, one in taken.items() if isinstance(one, Taken) and one.wants_whole]
    if not wanting:
        return
    lines = [body.lines[place][1] for place in wanting]
    prepared = await lines_prepared(intake, held, lines, replace(sender, flooding={}))
    outcomes_again = dict(zip(wanting, prepared, strict=True))
    again = {
        place: one._replace(prepared=one.prepared._replace(is_wanted=True))
        for place, one in outcomes_again.items()
        if isinstance(one, Ready)
    }
    for place, one in outcomes_again.items():
        outcomes[place] = one
    taken |= zip(again, await write(intake, held, list(again.values()), sender), strict=True)


async def write(intake: Intake, held: Pass, ready: Sequence[Ready], sender: Sender) -> list[Taken | StoreError]:
    """Write prepared reports and notify the live stream; return the result of each. A large batch is written in
    parts, in small ones while others wait, so that their reports are written in between.
    """
    results: list[Taken | StoreError] = []
    while len(results) < len(ready):
        part = _next_part(ready, len(results), FEW_AT_ONCE if held.is_heavy else MOST_AT_ONCE)
        results += await _write(intake, held, part, sender)
    return results


def _weight(one: Ready) -> int:
    return WEIGHT["run" if one.prepared.is_brief else one.prepared.kind]


def _next_part(ready: Sequence[Ready], start: int, most: int) -> Sequence[Ready]:
    """Return the reports from ``start`` on that are written together: at least one."""
    weight = 0
    days: set[int] = set()
    for end in range(start, len(ready)):
        weight += _weight(ready[end])
        days.add(ready[end].prepared.day)
        if end > start and (weight > most or len(days) > MOST_DAYS_AT_ONCE):
            return ready[start:end]
    return ready[start:]


async def _write(intake: Intake, held: Pass, ready: Sequence[Ready], sender: Sender) -> list[Taken | StoreError]:
    prepared, days = [one.prepared for one in ready], intake.records.writer.days
    # All bytes of a body count with its first part that is on disk.
    sent, today = held.sent, intake.day_use.today

    def work(connection: sqlite3.Connection) -> list[Taken]:
        taken = take(connection, days, prepared)
        key_use.add(connection, held.key, today, _came(taken), sent)
        return taken

    try:
        taken = await asyncio.wrap_future(intake.records.writer.submit(work))
    except StoreBroken as error:
        if len(ready) == 1:
            return [error]
        # One report that the store refuses must not keep the others out: each gets its own turn.
        results = [(await _write(intake, held, [one], sender))[0] for one in ready]
        # Only a report that is refused again, after all others were written, is refused for itself.
        for place, one in enumerate(ready):
            if isinstance(results[place], StoreError):
                results[place] = (await _write(intake, held, [one], sender))[0]
        return results
    except (StoreBusy, StoreTrouble) as error:
        # An error of the store is no verdict on the report: the sender sends it again.
        raise as_problem(error) from error
    held.sent = 0
    intake.day_use.add(held.key, _came(taken), sent)
    for each, became in zip(prepared, taken, strict=True):
        if became.only_counted and each.failure is not None and became.issue_id is not None:
            intake.flooding.note(sender.app_id, each.failure.decided.fingerprint, became.issue_id, sender.received_ms)
    if any(one.beyond for one in taken):
        intake.remark(sender.app, "too-many-releases", BEYOND)
    if any(one.among_others for one in taken):
        intake.remark(sender.app, "too-many-entry-points", AMONG_OTHERS)
    _tell(intake, sender, taken)
    hits = Counter(one.hit_of for one in taken if one.hit_of)
    if hits:
        await intake.tracepoints.hit(sender.app_id, hits)
    return list(taken)


def _came(taken: Sequence[Taken]) -> int:
    """Return how many reports came, without those that are prepared again."""
    return sum(not one.wants_whole for one in taken)


def _bounded(taken: Taken) -> list[str]:
    """Return the notes of a report beyond a bound of names, or in a flood."""
    return [
        *([BEYOND] if taken.beyond else []),
        *([AMONG_OTHERS] if taken.among_others else []),
        *([ONLY_COUNTED] if taken.only_counted else []),
    ]


def _tell(intake: Intake, sender: Sender, taken: list[Taken]) -> None:
    issues: dict[int, dict[str, Any]] = {}
    for one in taken:
        if one.issue_id is not None:
            counted = issues.setdefault(one.issue_id, {"issue": one.issue_id, "failures": 0})
            counted["failures"] += 1
            counted["new"] = counted.get("new", False) or one.new_issue
            counted["regressed"] = counted.get("regressed", False) or one.regressed
    if any(not one.already_there and not one.wants_whole for one in taken):
        intake.live.publish(
            {
                "type": "reports",
                "app": sender.app,
                "environment": sender.environment,
                "stored": sum(not one.already_there and not one.wants_whole for one in taken),
                "issues": list(issues.values()),
            }
        )


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
