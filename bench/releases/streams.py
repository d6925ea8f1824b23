"""Streams whose truth is known: settled issues that come back or do not, and rates that rise or do not."""

from __future__ import annotations

import random
import sqlite3
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.comparing import FailureRate, RateHistory, rate_regressions
from obitus.core.days import UNDATED
from obitus.core.lifecycle import Settling
from obitus.store import deciding
from obitus.store.days.failures import FailureRow
from obitus.store.days.writing import WritingDays
from obitus.store.deciding import DecisionOrder
from obitus.store.grouping import Decided
from obitus.store.intake.facts import FailureFacts, Prepared
from obitus.store.intake.taking import take
from obitus.store.migrations import open_for_writing

ISSUES, RELEASES = 10_000, 30
START_MS = 1_790_000_000_000
LASTS_MS = 2 * DAY_MS
# A main line with fixes on an old branch, which come after the next main release was live.
VERSIONS = [
    f"{1 + i // 10}.{i % 10}.0" if i % 5 != 3 else f"{1 + (i - 2) // 10}.{(i - 2) % 10}.1" for i in range(RELEASES)
]


@dataclass(frozen=True)
class Event:
    """A failure that happens at one time and comes at another, or a decision (``settle``)."""

    comes_ms: int
    happens_ms: int
    issue: int
    release: int
    settle: Settling | None = None


def regressions(folder: Path, seed: int = 5) -> dict[str, int]:
    """Send 10,000 issues over 30 releases through intake; return how many came back as planted, and how many did not."""
    dice = random.Random(seed)
    events: list[Event] = []
    planted: dict[int, bool] = {}
    for issue in range(ISSUES):
        planted[issue] = _story(dice, issue, events)
    events.sort(key=lambda event: (event.comes_ms, event.issue))
    connection = open_for_writing(folder / "streams.sqlite3")
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("INSERT INTO apps (id, name, kind, created_ms) VALUES (1, 'sailings', 'script', 0)")
    connection.execute("INSERT INTO people (id, name, role, created_ms) VALUES (1, 'owner', 'owner', 0)")
    connection.execute("BEGIN")
    # All in one day's file: what is measured is what becomes of the issues.
    days = WritingDays(folder / "days", connection)
    known: dict[int, int] = {}
    told = 0
    for number, event in enumerate(events):
        while told < RELEASES and _arrives(told) <= event.comes_ms:
            # Traffic of its own shows that a release is there, whatever fails.
            _take(connection, days, -1 - told, f"release {told}", told, _arrives(told), _arrives(told))
            told += 1
        if event.settle is not None:
            order = DecisionOrder("settle", event.settle)
            deciding.decide(
                connection, [(known[event.issue], deciding.ExpectedState(), order)], (1, "owner"), event.comes_ms
            )
        else:
            known[event.issue] = _take(
                connection, days, number, f"issue {event.issue}", event.release, event.happens_ms, event.comes_ms
            )
    days.commit(lambda _: None)
    connection.execute("COMMIT")
    days.done()
    days.close()
    states: dict[int, str] = dict(connection.execute("SELECT id, state FROM issues").fetchall())
    from_older_releases = connection.execute("SELECT SUM(from_older_releases) FROM issues").fetchone()[0]
    connection.close()
    back = {issue: states[number] == "regressed" for issue, number in known.items()}
    found = Counter((planted[issue], back[issue]) for issue in known)
    return {
        "failures": sum(event.settle is None for event in events),
        "planted": found[True, True] + found[True, False],
        "found": found[True, True],
        "missed": found[True, False],
        "false": found[False, True],
        "from_older_releases": from_older_releases,
        "late": sum(event.comes_ms - event.happens_ms > HOUR_MS for event in events),
    }


def _arrives(release: int) -> int:
    return START_MS + release * LASTS_MS


def _story(dice: random.Random, issue: int, events: list[Event]) -> bool:
    """Add what happens to one issue; return whether it comes back after it was settled."""
    began = dice.randrange(RELEASES - 12)
    for first in range(1 + dice.randrange(3)):
        at = _arrives(began) + dice.randrange(1, LASTS_MS if first else LASTS_MS // 2)
        events.append(Event(at, at, issue, began))
    fixed = began + 1 + dice.randrange(4)
    settled_ms = _arrives(fixed) - dice.randrange(1, LASTS_MS // 2)
    how = dice.choice(["release", "release", "coming"])
    if how == "coming":
        # Whatever comes next on the main line: a fix on the old branch is not it.
        fixed = next(r for r in range(RELEASES) if _arrives(r) > settled_ms and not _on_branch(r))
    settling = (
        Settling("release", settled_ms, VERSIONS[fixed])
        if how == "release"
        else Settling("coming", settled_ms, after=_newest(settled_ms))
    )
    events.append(Event(settled_ms, settled_ms, issue, 0, settling))
    have_it = [r for r in range(fixed, RELEASES) if _has(r, fixed)]
    # Old clients that go on running, and spools that are emptied days later.
    for _ in range(dice.randrange(4)):
        old = dice.choice(
            [r for r in range(began, RELEASES) if r not in have_it and _arrives(r) < _arrives(fixed)] or [began]
        )
        at = max(_arrives(old) + 1, settled_ms - LASTS_MS + dice.randrange(6 * LASTS_MS))
        events.append(Event(at + dice.choice([0, 0, dice.randrange(5 * DAY_MS)]), at, issue, old))
    back = dice.random() < 0.3
    if back:
        release = dice.choice(have_it)
        at = max(_arrives(release), settled_ms) + dice.randrange(1, LASTS_MS)
        events.append(Event(at + dice.choice([0, 0, dice.randrange(5 * DAY_MS)]), at, issue, release))
    return back


def _numbers(release: int) -> tuple[int, ...]:
    return tuple(int(part) for part in VERSIONS[release].split("."))


def _on_branch(release: int) -> bool:
    return _numbers(release)[2] > 0


def _newest(time_ms: int) -> str:
    return VERSIONS[max((r for r in range(RELEASES) if _arrives(r) <= time_ms), key=_numbers)]


def _has(release: int, fixed: int) -> bool:
    """Whether a release has the fix: the truth as the streams are made, by line and branch."""
    return release == fixed or (_arrives(release) > _arrives(fixed) and _numbers(release) > _numbers(fixed))


class NothingFurther:
    """Nobody asks why in this benchmark."""

    def parts(self) -> list[Any]:
        return []

    def earlier(self) -> list[str]:
        return []

    def value_of(self, name: str) -> str:
        return name


def _take(connection: sqlite3.Connection, days: WritingDays, number: int, name: str, release: int, happens_ms: int, comes_ms: int) -> int:  # fmt: skip
    decided = Decided(name, None, NothingFurther())
    row = FailureRow(4, False, "Tide", "", "GET /berths", None, None, (), "")
    facts = FailureFacts("ERROR", False, "Tide", "", "sailings.tides", "", "GET /berths", None, None, decided, row)
    report = Prepared(
        (number % 2**64).to_bytes(16, "big"),
        "failure",
        1,
        "production",
        VERSIONS[release],
        happens_ms,
        comes_ms,
        day=UNDATED,
        failure=facts,
    )
    (taken,) = take(connection, days, [report])
    assert taken.issue_id is not None
    return taken.issue_id


def rates(seed: int = 5) -> dict[str, Any]:
    """Let 10,000 issues fail as Poisson has it over 30 releases; return how planted doublings were found, and false alarms.

    What is found is what stands at the end of each release. A mark is false when no doubling began with that release.
    """
    draw = numpy.random.default_rng(seed)
    runs = draw.integers(40_000, 160_000, RELEASES)
    usual = numpy.exp(draw.uniform(numpy.log(0.2), numpy.log(120), ISSUES)) / 100_000
    began = numpy.full(ISSUES, RELEASES)
    chosen = draw.random(ISSUES) < 0.15
    began[chosen] = draw.integers(12, RELEASES, chosen.sum())
    counts = numpy.array([draw.poisson(usual * runs[r] * numpy.where(r >= began, 2.0, 1.0)) for r in range(RELEASES)])
    tally: Counter[str] = Counter()
    by_size: dict[str, Counter[bool]] = {}
    for release in range(12, RELEASES):
        earlier = range(release - 1, release - 13, -1)
        histories = [
            RateHistory(
                i,
                FailureRate(int(counts[release, i]), int(runs[release])),
                tuple((VERSIONS[r], FailureRate(int(counts[r, i]), int(runs[r]))) for r in earlier),
            )
            for i in numpy.nonzero(counts[release])[0].tolist()
        ]
        found = rate_regressions(histories)
        true = set(numpy.nonzero(began == release)[0].tolist())
        # After a doubling the releases that are compared with hold both rates: neither a change nor none.
        unsettled = set(numpy.nonzero((began < release) & (began >= release - 12))[0].tolist())
        for one in found:
            kind = "true" if one.key in true else "after a doubling" if one.key in unsettled else "false"
            tally[f"{kind}, sure" if one.sure else kind] += 1
            tally[kind] += one.sure
        tally["unchanged"] += ISSUES - len(true) - len(unsettled)
        marked = {one.key for one in found}
        for i in true:
            expected = usual[i] * runs[release]
            size = (
                "below 10"
                if expected < 10
                else "10 to 18"
                if expected < 18
                else "18 to 22"
                if expected <= 22
                else "22 to 50"
                if expected < 50
                else "50 and more"
            )
            by_size.setdefault(size, Counter())[i in marked] += 1
    return {"tally": tally, "by_size": by_size}
