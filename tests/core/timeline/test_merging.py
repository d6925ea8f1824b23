"""Merging, by its laws: causes before effects, the same in whatever order entries come, each once, nothing lost."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.timeline.clocks import corrections
from obitus.core.timeline.entries import KINDS, Entry
from obitus.core.timeline.merging import merge
from tests.growth import growth

KEYS = [f"k{number}" for number in range(12)]


@st.composite
def forests(draw: st.DrawFn) -> list[Entry]:
    """Entries with parents that are there, are not there, or go round in circles; hosts with clocks of their own; odd durations."""
    found = []
    for key in draw(st.lists(st.sampled_from(KEYS), max_size=12, unique=True)):
        found.append(
            Entry(
                key=key,
                kind=draw(st.sampled_from(KINDS)),
                time_ms=draw(st.integers(0, 50)) * 1.0,
                said=draw(st.sampled_from(["a", "b", "<b>\x1b[31m"])),
                app=draw(st.sampled_from(["sailings", "gatekeeper"])),
                host=draw(st.sampled_from(["", "pier-1", "gate-1", "kiosk-1"])),
                duration_ms=draw(st.none() | st.integers(-5, 40).map(float)),
                parent=draw(st.sampled_from(["", "nowhere", *KEYS])),
                waits=draw(st.booleans()),
            )
        )
    return found


def ancestors(entries: dict[str, Entry], key: str) -> set[str]:
    found: set[str] = set()
    while (key := entries[key].parent) in entries and key not in found:
        found.add(key)
    return found


@given(forests(), st.randoms())
def test_laws(entries: list[Entry], dice: random.Random) -> None:
    """Each stands once; who is not in a circle stands behind all its causes; the order of arrival and a second time change nothing."""
    made = merge(entries)
    places = {entry.key: place for place, entry in enumerate(made.entries)}
    assert sorted(places) == sorted(entry.key for entry in entries) and len(made.entries) == len(entries)
    by_key = {entry.key: entry for entry in entries}
    in_circle = {key for key in by_key if key in ancestors(by_key, key)}
    for key in by_key:
        causes = ancestors(by_key, key)
        if not causes & in_circle and key not in in_circle:
            assert all(places[cause] < places[key] for cause in causes)
            assert made.depths[key] == len(causes)
    shuffled = dice.sample(entries, len(entries))
    again = merge([*shuffled, *made.entries])
    assert again == made
    # Between those that nothing binds, time decides.
    free = [entry for entry in made.entries if not ancestors(by_key, entry.key)]
    free = [entry for entry in free if entry.key not in in_circle]
    assert [made.times_ms[entry.key] for entry in free] == sorted(made.times_ms[entry.key] for entry in free)


def test_what_is_missing_or_odd_is_said() -> None:
    entries = [
        Entry("a", "run", 1, "x", parent="b"), Entry("b", "run", 2, "x", parent="a"), Entry("c", "log", 3, "x", parent="gone"), Entry("d", "log", 0, "x", parent="d"),
    ]  # fmt: skip
    made = merge(entries)
    assert [entry.key for entry in made.entries] == ["d", "a", "b", "c"]
    assert (
        "name each other as their parents" in made.notes[0]
        and "1 caller is named that nothing was reported of" in made.notes[1]
    )


@pytest.mark.slow
def test_four_thousand_steps_and_forty_thousand() -> None:
    """In a chain, in a star and in a circle: no recursion, and a time that grows with their number."""

    def merged(count: int, parent: object) -> Callable[[], object]:
        entries = [
            Entry(f"k{i}", "http", float(i % 977), "x", host=f"h{i % 5}", duration_ms=3, parent=parent(i))
            for i in range(count)
        ]  # type: ignore[operator]

        def work() -> None:
            assert len(merge(entries).entries) == count

        return work

    for parent in (lambda i: f"k{i - 1}", lambda i: "k0" if i else "", lambda i: f"k{(i + 1) % 4_000}"):
        assert growth(merged(4_000, parent), merged(40_000, parent), 40) < 40


def scene(dice: random.Random, hosts: int = 5) -> tuple[list[Entry], dict[str, Entry]]:
    """Return what hosts with clocks of their own report of a trace, and the same by one clock."""
    offsets = {f"h{i}": dice.uniform(-60_000, 60_000) if i else 0.0 for i in range(hosts)}
    drifts = {host: dice.uniform(-5e-5, 5e-5) for host in offsets}
    true: dict[str, Entry] = {}

    def call(host: str, start_ms: float, deep: int, parent: str) -> float:
        """Let a host work, call others while it does, and return when it is done."""
        key = f"k{len(true)}"
        true[key] = Entry(key, "run", start_ms, "x", app=host, host=host, parent=parent)
        now_ms = start_ms + dice.uniform(1, 20)
        for _ in range(dice.randint(0, 3) if deep < 4 else 0):
            other = dice.choice([one for one in offsets if one != host])
            step = f"s{len(true)}"
            begun_ms = now_ms
            true[step] = Entry(step, "http", begun_ms, "x", app=host, host=host, parent=key)
            done_ms = call(other, begun_ms + dice.uniform(0.2, 5), deep + 1, step)
            now_ms = done_ms + dice.uniform(0.2, 5)
            true[step] = replace(true[step], duration_ms=now_ms - begun_ms)
            now_ms += dice.uniform(0.5, 20)
        true[key] = replace(true[key], duration_ms=now_ms - start_ms)
        return now_ms

    call("h0", 1_000_000.0, 0, "")
    shown = [
        replace(entry, time_ms=entry.time_ms + offsets[entry.host] + entry.time_ms * drifts[entry.host] / 100)
        for entry in true.values()
    ]
    return shown, true


def test_clocks_are_brought_together() -> None:
    """Over five hosts, up to a minute off and drifting: cause and effect are in order in at least 99 of 100 pairs, and times between hosts nearly are."""
    dice = random.Random(31)
    pairs = wrong = across = far = 0
    for _ in range(60):
        shown, true = scene(dice)
        made = merge(shown)
        at = {key: made.times_ms[key] for key in true}
        for entry in true.values():
            if entry.parent in true and true[entry.parent].host != entry.host:
                pairs += 1
                wrong += at[entry.key] + 1.5 < at[entry.parent] or at[entry.key] + (entry.duration_ms or 0) > at[entry.parent] + (true[entry.parent].duration_ms or 0) + 1.5  # fmt: skip
                across += 1
                far += abs((at[entry.key] - at[entry.parent]) - (entry.time_ms - true[entry.parent].time_ms)) > 6
    assert pairs > 300 and wrong <= 0.01 * pairs and far <= 0.05 * across


@pytest.mark.parametrize(
    ("callee", "by_ms", "words"),
    [
        (Entry("b", "run", 41_005, "x", host="gate-1", duration_ms=10, parent="a"), -40_000, "40.000 s ahead of"),
        (Entry("b", "run", -38_990, "x", host="gate-1", duration_ms=10, parent="a"), 39_995, "39.995 s behind"),
        (Entry("b", "run", 500, "x", host="gate-1", duration_ms=10, parent="a", waits=False), 500, "0.500 s behind"),
    ],
)
def test_a_correction_says_why(callee: Entry, by_ms: float, words: str) -> None:
    """In the middle of what is possible where the caller waited, else no further than its cause."""
    caller = Entry("a", "http", 1000, "x", host="pier-1", duration_ms=20, parent="")
    (one,) = corrections([caller, callee])
    assert one.host == "gate-1" and one.by_ms == pytest.approx(by_ms, abs=0.01) and one.certain
    assert words in one.reason and "1 call between them" in one.reason


def test_clocks_that_agree_and_clocks_that_cannot() -> None:
    """Who agrees is left alone; where no correction fits, that is said, and the one that most ask for is taken."""
    caller = [Entry(f"a{i}", "http", 1000 + 100 * i, "x", host="pier-1", duration_ms=20) for i in range(5)]
    good = [Entry(f"b{i}", "run", 1005 + 100 * i, "x", host="gate-1", duration_ms=10, parent=f"a{i}") for i in range(5)]
    assert corrections([*caller, *good]) == []
    jumped = [replace(entry, time_ms=entry.time_ms + (30_000 if i == 4 else 0)) for i, entry in enumerate(good)]
    (one,) = corrections([*caller, *jumped])
    assert not one.certain and abs(one.by_ms) < 10 and "cannot be brought together" in one.reason
    slow = [Entry("c", "run", 1002, "x", host="gate-1", duration_ms=5000, parent="a0")]
    assert corrections([*caller, *slow]) == [], "a callee that its caller did not wait for"
