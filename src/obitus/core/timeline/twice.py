"""Merging what was reported twice: a log record and its breadcrumb, the steps of a failure and those of its run,
both ends of a call."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import replace
from typing import Final

from obitus.core.timeline.entries import Entry

NEAR_MS: Final = 60.0
"""The longest time between two reports of the same event: one process made both, one after the other."""


def once(entries: Iterable[Entry]) -> list[Entry]:
    """Return the entries without duplicates. Children of a removed entry get the one that stays as their parent. An
    entry with a report of its own stays, else the first. Both ends of a call stay: they are two runs on two hosts,
    one inside of the other.
    """
    entries_once: list[Entry] = []
    became: dict[str, str] = {}
    alike: dict[tuple[str, ...], list[int]] = defaultdict(list)
    # Those with a report of their own first: the others are duplicates of them.
    for entry in sorted(entries, key=lambda entry: (entry.number is None, entry.time_ms, entry.key)):
        sign = (entry.app, entry.host, entry.run or entry.trace, entry.kind, " ".join(entry.said.split()))
        place = None if entry.number is not None else _twin(entry, entries_once, alike[sign])
        if place is None:
            alike[sign].append(len(entries_once))
            entries_once.append(entry)
            continue
        other = entries_once[place]
        became[entry.key] = other.key
        entries_once[place] = replace(
            other,
            tellers=(*other.tellers, *entry.tellers),
            data=entry.data | other.data,
            parent=other.parent or entry.parent,
            duration_ms=other.duration_ms if other.duration_ms is not None else entry.duration_ms,
        )
    return [
        replace(entry, parent=became[entry.parent])
        if entry.parent in became and became[entry.parent] != entry.key
        else entry
        for entry in entries_once
    ]


def _twin(entry: Entry, kept: list[Entry], places: list[int]) -> int | None:
    """Return the index of the duplicate that is nearest in time; None where there is none."""
    near = [
        place
        for place in places
        if abs(kept[place].time_ms - entry.time_ms) <= NEAR_MS
        # Two steps of one report are never duplicates.
        and not set(kept[place].tellers) & set(entry.tellers)
    ]
    return min(near, key=lambda place: abs(kept[place].time_ms - entry.time_ms), default=None)
