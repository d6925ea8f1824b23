"""Templates found in messages: the right ones, whatever the format, in bounded memory, whatever the order."""

from __future__ import annotations

import random
from collections import defaultdict

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core import mining
from obitus.core.mining import VALUE, Miner, pattern_of
from tests.core.labelled_lines import FORMATS, labelled
from tests.growth import growth


def accuracy(lines: list[tuple[str, str]]) -> float:
    """Return the share of lines that are in a group which holds all lines of their template and no others."""
    miner = Miner()
    patterns = [miner.add(line) for _, line in lines]
    template_of = {pattern: place for place, one in enumerate(miner.templates()) for pattern in one.patterns}
    found: dict[int, set[int]] = defaultdict(set)
    truth: dict[str, set[int]] = defaultdict(set)
    for number, ((label, _), pattern) in enumerate(zip(lines, patterns, strict=True)):
        found[template_of[pattern]].add(number)
        truth[label].add(number)
    groups = {frozenset(numbers) for numbers in truth.values()}
    return sum(len(numbers) for numbers in found.values() if frozenset(numbers) in groups) / len(lines)


@pytest.mark.slow
def test_grouping_accuracy() -> None:
    """Over eleven formats nine lines in ten are grouped exactly right, and no format is lost; also when all come mixed."""
    by_format = {name: accuracy(labelled(name, 1500, seed=7)) for name in FORMATS}
    print(by_format)
    assert sum(by_format.values()) / len(by_format) >= 0.90
    assert min(by_format.values()) >= 0.60
    mixed = [line for name in FORMATS for line in labelled(name, 400, seed=9)]
    random.Random(2).shuffle(mixed)
    assert accuracy(mixed) >= 0.85


def test_a_million_lines_read_as_forty() -> None:
    """What a file says with many values is few templates, each written as its lines are, with its count and an example."""
    miner = Miner()
    for number in range(3000):
        miner.add(f"no fare for {number} cars", 2)
        miner.add(f'boarded: {", ".join(map(str, range(number % 5 + 1)))} on SK-{number}  ("late")')
        miner.add(f"gate {number % 4} {'opens' if number % 2 else 'closes'}")
    found = {one.text: one.count for one in miner.templates()}
    assert found == {
        f"no fare for {VALUE} cars": 6000, f"boarded: {VALUE} on {VALUE}  ({VALUE})": 3000, f"gate {VALUE} opens": 1500, f"gate {VALUE} closes": 1500,
    }  # fmt: skip
    assert all(one.example.split()[0] == one.text.split()[0] for one in miner.templates())


@pytest.mark.slow
def test_memory_is_bounded(monkeypatch: pytest.MonkeyPatch) -> None:
    """However many different messages come, few are kept, and what is common stays right."""
    monkeypatch.setattr(mining, "MOST_PATTERNS", 200)
    miner = Miner()
    dice = random.Random(4)
    letters = "abcdefghijklmnopqrstuvwxyz"
    for number in range(5000):
        word = "".join(dice.choices(letters, k=6))
        miner.add(f"passenger {word} boards at pier {number}")
        miner.add(" ".join("".join(dice.choices(letters, k=5)) for _ in range(dice.randrange(1, 9))))
        assert len(miner._counts) <= 201 and len(miner._examples) <= 202
    counts = {one.text: one.count for one in miner.templates()}
    assert counts[f"passenger {VALUE} boards at pier {VALUE}"] == 5000


@given(st.lists(st.text(max_size=60), min_size=1, max_size=40))
def test_any_texts(messages: list[str]) -> None:
    """Nothing breaks it, nothing is lost, and the order does not matter."""
    miner, turned = Miner(), Miner()
    for message in messages:
        miner.add(message)
    for message in reversed(messages):
        turned.add(message)
    found = miner.templates()
    assert sum(one.count for one in found) == len(messages)
    assert sorted(pattern for one in found for pattern in one.patterns) == sorted({pattern_of(message) for message in messages})  # fmt: skip
    assert sorted(tuple(sorted(one.patterns)) for one in found) == sorted(tuple(sorted(one.patterns)) for one in turned.templates())  # fmt: skip


@pytest.mark.parametrize("piece", ["1", "a:", '"', "'a", "=", " ", "1, ", "a1.", "/", "@", "://", "(", "é"])
def test_time_is_linear(piece: str) -> None:
    """Ten times the text, not much more than ten times the time."""

    def mine(length: int) -> None:
        text = (piece * length)[:length]
        for number in range(20):
            miner = Miner()
            miner.add(f"{number} {text}")
            miner.templates()

    mine(100)
    assert growth(lambda: mine(200), lambda: mine(2000), 60) < 60
