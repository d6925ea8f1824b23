"""Uninteresting entries of a timeline, and the last step that worked."""

from __future__ import annotations

import re
from itertools import groupby
from typing import Final, NamedTuple

from obitus.core.timeline.entries import Entry
from obitus.core.timeline.merging import Timeline

LEAST_ALIKE: Final = 4
"""From so many of a kind in a row on, they are shown as one."""
SHOWN_BEFORE: Final = 3
"""Entries right before a failure that are never folded."""
_QUIET: Final = frozenset({"TRACE", "DEBUG", "INFO"})
_NAMES: Final = {
    "http": "calls", "statement": "statements", "log": "log records", "mark": "marks", "process": "processes", "input": "inputs", "page": "pages", "run": "runs",
}  # fmt: skip
_VALUES = re.compile(r"'[^']*'|\"[^\"]*\"|\b[0-9a-f]{8,}\b|\d+(?:\.\d+)?", re.IGNORECASE)
_TELLS: Final = frozenset({"http", "statement", "process"})
"""Steps with an outcome: they show whether something worked."""


class Fold(NamedTuple):
    """Consecutive entries that are shown as one."""

    first: int
    last: int
    reason: str


class LastWorking(NamedTuple):
    """The last step known to have worked before a failure, and how that is known."""

    key: str
    reason: str


def folds(timeline: Timeline) -> list[Fold]:
    """Return uninteresting entries: consecutive ones that differ only in their values, none of them a warning, and
    none right before a failure."""
    near = {
        place - back
        for place, entry in enumerate(timeline.entries)
        if entry.kind == "failure"
        for back in range(SHOWN_BEFORE + 1)
    }
    folds = []
    places = groupby(
        range(len(timeline.entries)), key=lambda place: (_likeness(timeline.entries[place]), place in near)
    )
    for (likeness, is_near), group in places:
        some = list(group)
        if likeness is not None and not is_near and len(some) >= LEAST_ALIKE:
            kind = _NAMES[timeline.entries[some[0]].kind]
            folds.append(
                Fold(some[0], some[-1], f"{len(some):,} {kind} in a row that say the same but for their values")
            )
    return folds


def last_worked(timeline: Timeline, failure: str) -> LastWorking | None:
    """Return the last step of a failure's run that is known to have worked, None where nothing is known of any."""
    end = next((place for place, entry in enumerate(timeline.entries) if entry.key == failure), None)
    if end is None:
        return None
    run = timeline.entries[end].run
    before = [
        entry
        for entry in timeline.entries[:end]
        if entry.kind not in ("run", "deploy", "decision", "note", "issue", "failure") and (entry.run == run or not run)
    ]
    for wanted in (_TELLS, frozenset({"mark", "log", "input", "page"})):
        for entry in reversed(before):
            if entry.kind in wanted and entry.severity in _QUIET:
                how = (
                    "it ended without a fault" if entry.kind in _TELLS else "it was said, and nothing was wrong by then"
                )
                return LastWorking(entry.key, f"The last step of this run that is known to have worked: {how}.")
    return None


def _likeness(entry: Entry) -> tuple[str, str, str] | None:
    """Return the key of entries that may be folded together; None for entries that are never folded."""
    if entry.severity not in _QUIET or entry.kind not in _NAMES or entry.kind == "run":
        return None
    return entry.app, entry.kind, _VALUES.sub("…", entry.said)
