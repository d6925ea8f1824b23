"""A body from its bytes to a verdict for each of its lines: prepared, then written. Of a large one the first lines are
written while the next are prepared.
"""

from __future__ import annotations

import asyncio
from dataclasses import replace
from typing import Final

from obitus.service.intake import formats
from obitus.service.intake.inflating import Body
from obitus.service.intake.lines import Refusal
from obitus.service.intake.prepare import Ready
from obitus.service.intake.preparing import large_body_prepared, lines_prepared, small_body_prepared
from obitus.service.intake.worker_tasks import PreparedLines
from obitus.service.intake.writing import AMONG_OTHERS, BEYOND, Writing, seconds_to_write
from obitus.store.errors import StoreError
from obitus.store.intake.facts import Taken

ONLY_COUNTED: Final = (
    "Its issue fails so often at once that this one was counted and not kept whole; a kept one like it represents it."
)


async def take_body(writing: Writing, raw: list[bytes], encoding: str) -> tuple[Body, list[formats.LineVerdict]]:
    """Prepare and write a body; return its overlong lines and why it ended early, and a verdict for each other line."""
    intake, held, sender = writing.intake, writing.held, writing.sender
    small = await small_body_prepared(intake, held, raw, encoding, sender, writing.begin)
    if small is None:
        return await _take_large(writing, raw, encoding)
    body, prepared = small
    # The key's next body is prepared meanwhile: the writer has a queue of its own.
    return body, await _written(writing, prepared)


async def _take_large(writing: Writing, raw: list[bytes], encoding: str) -> tuple[Body, list[formats.LineVerdict]]:
    intake, held, sender = writing.intake, writing.held, writing.sender
    parts: asyncio.Queue[PreparedLines | None] = asyncio.Queue()
    loop = asyncio.get_running_loop()

    def put(part: PreparedLines | None) -> None:
        loop.call_soon_threadsafe(parts.put_nowait, part)

    async def prepare() -> Body:
        try:
            return await large_body_prepared(intake, held, raw, encoding, sender, put)
        finally:
            put(None)

    preparing = asyncio.create_task(prepare())
    verdicts: list[formats.LineVerdict] = []
    try:
        while (part := await parts.get()) is not None:
            verdicts += await _written(writing, part)
        return await preparing, verdicts
    except Exception:
        # Until nobody works on them, its bytes count as held.
        await asyncio.wait([preparing])
        raise
    finally:
        preparing.cancel()


async def _written(writing: Writing, prepared: PreparedLines) -> list[formats.LineVerdict]:
    """Write prepared reports; return a verdict for each line."""
    lines, outcomes = prepared
    if not outcomes:
        return []
    ready = {place: outcome for place, outcome in enumerate(outcomes) if isinstance(outcome, Ready)}
    writing.held.spend(seconds_to_write(ready.values()))
    for report in ready.values():
        if report.filtered is not None:
            writing.intake.remark(writing.sender.app, "filtered", report.filtered)
    taken = dict(zip(ready, await writing.write(list(ready.values())), strict=True))
    await _keep_whole(writing, prepared, taken)
    verdicts = []
    for place, ((number, _), outcome) in enumerate(zip(lines, outcomes, strict=True)):
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


async def _keep_whole(writing: Writing, prepared: PreparedLines, taken: dict[int, Taken | StoreError]) -> None:
    """Prepare and write those that were to be counted and cannot be, and correct their results. Of several that none
    represented, the first may represent the others now. ``taken`` is by index in ``prepared``.
    """
    wanting = {
        place: outcome.is_wanted
        for place, outcome in taken.items()
        if isinstance(outcome, Taken) and outcome.wants_whole
    }
    if not wanting:
        return
    lines = [prepared.lines[place][1] for place in wanting]
    outcomes = await lines_prepared(writing.intake, writing.held, lines, replace(writing.sender, flooding={}))
    outcomes_again = dict(zip(wanting, outcomes, strict=True))
    again = {
        place: outcome._replace(prepared=outcome.prepared._replace(is_wanted=wanting[place]))
        for place, outcome in outcomes_again.items()
        if isinstance(outcome, Ready)
    }
    for place, outcome in outcomes_again.items():
        prepared.outcomes[place] = outcome
    taken |= zip(again, await writing.write(list(again.values())), strict=True)


def _bounded(taken: Taken) -> list[str]:
    """Return the notes of a report beyond a bound of names, or in a flood."""
    return [
        *([BEYOND] if taken.beyond else []),
        *([AMONG_OTHERS] if taken.among_others else []),
        *([ONLY_COUNTED] if taken.only_counted else []),
    ]
