"""Entries of many reports in one order: parents before children, causes before effects, by time where neither is known."""

from __future__ import annotations

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Final

from obitus.core.timeline.clocks import corrected, corrections
from obitus.core.timeline.entries import Correction, Entry

# Where two begin at the same moment, a possible cause comes first.
_RANK: Final = {"deploy": 0, "run": 1, "page": 2, "input": 2, "http": 3, "statement": 3, "process": 3, "mark": 3, "log": 4, "failure": 5, "issue": 6, "decision": 7, "note": 8}  # fmt: skip


@dataclass(slots=True)
class Timeline:
    """All entries in order, with further results."""

    entries: list[Entry]
    times_ms: dict[str, float]
    """When each began, by the corrected clock; by key."""
    depths: dict[str, int]
    """How many causes stand above each."""
    corrections: list[Correction] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    """Missing and strange things, in words."""


def merge(entries: Iterable[Entry]) -> Timeline:
    """Put entries in order. Each occurs once, in any order of arrival; a parent comes before its children. Missing
    parents are named; in a cycle of parents the first entry has no parent.
    """
    by_key: dict[str, Entry] = {}
    for entry in sorted(entries, key=lambda entry: (entry.key, entry.time_ms, entry.said)):
        by_key.setdefault(entry.key, entry)
    distinct = list(by_key.values())
    moved = corrections(distinct)
    by_host = {one.host: one.by_ms for one in moved}
    times = {entry.key: corrected(entry, by_host) for entry in distinct}
    parents, circles = _parents(by_key, times)
    ordered, depths = _ordered(distinct, times, parents)
    notes = []
    if circles:
        notes.append(
            f"{circles:,} step{'s name each other as their parents' if circles > 1 else ' names itself as its parent'}; they are put in order by time."
        )
    missing = {entry.parent for entry in distinct if entry.parent and entry.parent not in by_key}
    if missing:
        notes.append(
            f"{len(missing):,} {'callers are' if len(missing) > 1 else 'caller is'} named that nothing was reported of: "
            "an app that does not report, a span that was not sent, or a report that is still to come."
        )
    return Timeline(ordered, times, depths, moved, notes)


def _parents(by_key: Mapping[str, Entry], times: Mapping[str, float]) -> tuple[dict[str, str], int]:
    """Return the parent of each entry that has one, and how many parents were ignored because of cycles."""
    parents = {key: entry.parent for key, entry in by_key.items() if entry.parent in by_key}
    settled: set[str] = set()
    circles = 0
    for key in sorted(parents, key=lambda key: (times[key], key)):
        path: list[str] = []
        seen: set[str] = set()
        at = key
        while at in parents and at not in settled:
            if at in seen:
                # The first entry of the cycle begins it.
                circle = path[path.index(at) :]
                del parents[min(circle, key=lambda one: (times[one], one))]
                circles += len(circle)
                break
            seen.add(at)
            path.append(at)
            at = parents[at]
        settled.update(path)
    return parents, circles


def _ordered(
    entries: list[Entry], times: Mapping[str, float], parents: Mapping[str, str]
) -> tuple[list[Entry], dict[str, int]]:
    """Return entries by time, each after its parent, and the depth of each."""
    children: dict[str, list[Entry]] = defaultdict(list)
    waiting: list[tuple[float, int, str, Entry]] = []
    for entry in entries:
        if entry.key in parents:
            children[parents[entry.key]].append(entry)
        else:
            waiting.append((times[entry.key], _RANK[entry.kind], entry.key, entry))
    heapq.heapify(waiting)
    ordered: list[Entry] = []
    depths: dict[str, int] = {}
    while waiting:
        at_ms, _, key, entry = heapq.heappop(waiting)
        ordered.append(entry)
        depths[key] = depths[parents[key]] + 1 if key in parents else 0
        for child in children[key]:
            # One that would begin before its cause comes right after it.
            heapq.heappush(waiting, (max(at_ms, times[child.key]), _RANK[child.kind], child.key, child))
    return ordered, depths
