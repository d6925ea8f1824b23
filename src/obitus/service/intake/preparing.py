"""Where reports are prepared: small bodies on a thread of the service, large ones and those of busy keys in a worker process."""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, TypeVar

from obitus.service.intake import worker_tasks
from obitus.service.intake.bodies import Pass
from obitus.service.intake.decision_parts import ReadAgain
from obitus.service.intake.inflating import Body, split
from obitus.service.intake.intake import Intake
from obitus.service.intake.lines import Refusal
from obitus.service.intake.prepare import Ready, Sender
from obitus.service.intake.processes import ProcessEnded, beside
from obitus.service.intake.worker_tasks import Outcomes, PreparedLines
from obitus.service.settings import Limits
from obitus.store.grouping import Decided

_log = logging.getLogger("obitus.service")

Result = TypeVar("Result")
Begin = Callable[[Outcomes], None]
"""What is done with prepared lines on the thread that prepared them, before the event loop gets them."""
OnPart = Callable[[PreparedLines], None]
"""Gets prepared lines as soon as they are there, on any thread."""


def is_small(held: Pass, pieces: Sequence[bytes], limits: Limits) -> bool:
    """Whether these bytes are processed here: few enough, and with a key that has not used much time recently."""
    return sum(map(len, pieces)) <= limits.small_body_bytes and not held.is_heavy


def while_small(limits: Limits) -> Limits:
    """Return the limits for processing here: a body that inflates beyond them goes to a process instead."""
    return replace(limits, inflated_bytes=limits.small_body_bytes)


async def small_body_prepared(
    intake: Intake, held: Pass, raw: list[bytes], encoding: str, sender: Sender, begin: Begin
) -> tuple[Body, PreparedLines] | None:
    """Inflate a small body, split it into lines and prepare each, on a thread of the service; return None for a large
    one. ``begin`` is called with the outcomes.
    """
    limits = intake.limits
    if not is_small(held, raw, limits):
        return None

    def here() -> tuple[Body, PreparedLines] | None:
        body, outcomes = worker_tasks.split_and_prepare(raw, encoding, while_small(limits), sender, intake.preparer)
        if body.problem is not None and body.problem.slug == "inflates-too-large":
            return None
        begin(outcomes)
        return body, PreparedLines(body.lines, outcomes)

    async with held.lane:
        # The key may have become busy while this body waited.
        return None if held.is_heavy else await held.work(here)


async def large_body_prepared(
    intake: Intake, held: Pass, raw: list[bytes], encoding: str, sender: Sender, on_part: OnPart
) -> Body:
    """Do the same in a worker process. ``on_part`` gets some lines after the other, in their order."""
    prepared = 0

    def hand_on(part: PreparedLines) -> None:
        nonlocal prepared
        prepared += len(part.lines)
        on_part(part._replace(outcomes=_brought(intake, part.outcomes, sender)))

    async with held.lane:
        try:
            body, took_s = await intake.processes.work_in_parts(
                hand_on,
                worker_tasks.split_and_prepare_apart,
                beside(raw),
                encoding,
                intake.limits,
                sender,
                intake.rules,
            )
            held.spend(took_s)
        except ProcessEnded:
            body = await held.work(split, raw, encoding, intake.limits)
            rest = body.lines[prepared:]
            on_part(PreparedLines(rest, await _one_by_one(intake, held, [line for _, line in rest], sender)))
    return body


async def lines_prepared(intake: Intake, held: Pass, lines: Sequence[bytes], sender: Sender, begin: Begin = lambda _: None) -> Outcomes:  # fmt: skip
    """Prepare lines. ``begin`` is called as by ``small_body_prepared``."""
    if is_small(held, lines, intake.limits):

        def here() -> Outcomes:
            outcomes = worker_tasks.prepare_all(lines, sender, intake.preparer)
            begin(outcomes)
            return outcomes

        return await held.work(here)
    try:
        outcomes = await apart(intake, held, worker_tasks.prepare_apart, lines, sender, intake.rules)
    except ProcessEnded:
        return await _one_by_one(intake, held, lines, sender)
    return _brought(intake, outcomes, sender)


async def _one_by_one(intake: Intake, held: Pass, lines: Sequence[bytes], sender: Sender) -> Outcomes:
    """Prepare each line separately, after a process ended on all of them: a line that ends one again is refused alone."""
    _log.error("a process ended over a body of %d lines of %s; each is tried alone", len(lines), sender.app)
    outcomes: Outcomes = []
    for line in lines:
        try:
            outcomes += _brought(intake, await apart(intake, held, worker_tasks.prepare_apart, [line], sender, intake.rules), sender)  # fmt: skip
        except ProcessEnded:
            _log.exception("a report could not be prepared")
            outcomes.append(Refusal("fault", "The service could not read this report. Its log says why."))
    return outcomes


async def apart(intake: Intake, held: Pass, act: Callable[..., Result], *given: Any) -> Result:
    """Call a function in a process, and count its CPU time for the key."""
    result, took_s = await intake.processes.work(act, *given)
    held.spend(took_s)
    return result


def _brought(intake: Intake, outcomes: Outcomes, sender: Sender) -> Outcomes:
    """Return what a process prepared, with the seldom needed parts computed on demand."""
    return [_able(intake, outcome, sender) if isinstance(outcome, Ready) else outcome for outcome in outcomes]


def _able(intake: Intake, ready: Ready, sender: Sender) -> Ready:
    prepared = ready.prepared
    failure = prepared.failure
    if failure is None or prepared.is_brief:
        return ready

    def again() -> Decided:
        content = json.loads(intake.records.evidence.unpack(prepared.body, prepared.dictionary_id))
        return intake.preparer.decided(content, sender.app, sender.environment)[0]

    decided = replace(failure.decided, further=ReadAgain(again))
    return ready._replace(prepared=prepared._replace(failure=replace(failure, decided=decided)))
