"""Work on large bodies, in a worker process. Of the store only source maps are read here; nothing is written."""

from __future__ import annotations

import logging
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final, NamedTuple

from obitus.service.intake.inflating import Body, split
from obitus.service.intake.known_forms import NotHere
from obitus.service.intake.linear_patterns import redactor_of
from obitus.service.intake.lines import Refusal
from obitus.service.intake.prepare import Preparer, Ready, Sender, TurnBack, grouping_of
from obitus.service.maps.shelf import Shelf
from obitus.service.settings import Limits
from obitus.store.database import Reader
from obitus.store.evidence import Packer

_log = logging.getLogger("obitus.service")

Outcomes = list[Ready | Refusal]
LINES_AT_ONCE: Final = 100
"""Lines of a body that are prepared before they are handed on."""


class PreparedLines(NamedTuple):
    """Some lines of a body with their numbers, and the outcome of each."""

    lines: list[tuple[int, bytes]]
    outcomes: Outcomes


class Maps(NamedTuple):
    """The folder of source maps, and its version."""

    database: Path
    changes: int


@dataclass(frozen=True, slots=True)
class Rules:
    """Everything that a process needs to prepare reports like the service itself. ``number`` grows with each change."""

    number: int
    redaction: tuple[str, ...]
    grouping: tuple[tuple[str, int], ...]
    dictionary: tuple[int, bytes] | None
    maps: Maps | None = None
    """None where no app has source maps."""


_prepared_for: tuple[int, Preparer] | None = None
_shelf: Shelf | None = None


def split_and_prepare(raw: Sequence[bytes], encoding: str, limits: Limits, sender: Sender, preparer: Preparer) -> tuple[Body, Outcomes]:  # fmt: skip
    """Inflate a body, split it into lines, and prepare each."""
    body = split(raw, encoding, limits)
    return body, prepare_all([line for _, line in body.lines], sender, preparer)


def prepare_all(lines: Sequence[bytes], sender: Sender, preparer: Preparer) -> Outcomes:
    """Prepare each line; one that raises is refused alone."""
    outcomes: Outcomes = []
    for line in lines:
        try:
            outcomes.append(preparer.prepare(line, sender))
        except Exception:
            # A report that raises must not affect the good ones.
            _log.exception("a report could not be prepared")
            outcomes.append(Refusal("fault", "The service could not read this report. Its log says why."))
    return outcomes


def split_and_prepare_apart(
    raw: Sequence[bytes], encoding: str, limits: Limits, sender: Sender, rules: Rules
) -> Generator[PreparedLines, None, Body]:
    """The same in a worker process, some lines after the other; returns the body without its lines. The bytes of a line
    stay here, except where it may be prepared again.
    """
    body, preparer = split(raw, encoding, limits), _preparer(rules)
    lines, body.lines = body.lines, []
    for start in range(0, len(lines), LINES_AT_ONCE):
        some = lines[start : start + LINES_AT_ONCE]
        outcomes = prepare_all([line for _, line in some], sender, preparer)
        needed = [
            (number, line if isinstance(one, Ready) and one.prepared.is_brief else b"")
            for (number, line), one in zip(some, outcomes, strict=True)
        ]
        yield PreparedLines(needed, _carried(outcomes))
    return body


def prepare_apart(lines: Sequence[bytes], sender: Sender, rules: Rules) -> Outcomes:
    """Prepare lines in a process."""
    return _carried(prepare_all(lines, sender, _preparer(rules)))


def _preparer(rules: Rules) -> Preparer:
    """Return a preparer for these rules; it is made again when they change."""
    global _prepared_for
    if _prepared_for is None or _prepared_for[0] != rules.number:
        packer = Packer()
        if rules.dictionary is not None:
            packer.use(*rules.dictionary)
        preparer = Preparer(packer)
        turn_back = None if rules.maps is None else _turn_back(rules.maps)
        preparer.use(redactor_of(rules.redaction), grouping_of(rules.grouping), turn_back)
        _prepared_for = rules.number, preparer
    return _prepared_for[1]


def _turn_back(maps: Maps) -> TurnBack:
    """Return the shelf of source maps, one as long as the process lives, with its open maps."""
    global _shelf
    if _shelf is None:
        _shelf = Shelf(maps.database.parent, Reader(maps.database))
    else:
        _shelf.refresh()
    return _shelf.turn_back


def _carried(outcomes: Outcomes) -> Outcomes:
    """Return outcomes without the seldom needed parts: they are large, and can be computed from the evidence."""
    carried: Outcomes = []
    for outcome in outcomes:
        if isinstance(outcome, Ready) and outcome.prepared.failure is not None and not outcome.prepared.is_brief:
            failure = outcome.prepared.failure
            decided = replace(failure.decided, further=NotHere())
            outcome = outcome._replace(prepared=outcome.prepared._replace(failure=replace(failure, decided=decided)))
        carried.append(outcome)
    return carried
