"""Reading stack traces takes time in proportion to the text, whatever stands in it: measured at up to a megabyte."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from obitus.core.stacks import find_stacks
from tests.growth import growth, seconds

TRACES = [json.loads(line) for line in (Path(__file__).parent / "recorded.ndjson").read_text("utf-8").splitlines()]
LANGUAGES = sorted({trace["language"] for trace in TRACES})
SMALL, MIDDLE, LARGE = 62_500, 250_000, 1_000_000
LINEAR_S, MOST_GROWTH = 0.25, 7.0
# How many times as long as its language's traces as they are a twisted text of the same size may take.
MOST_TIMES_AS_LONG = 60

# What is done to the lines of a trace, to have a reader go back over as much as it can.
TWISTS: dict[str, Callable[[list[str]], list[str]]] = {
    "as they are": lambda lines: lines,
    "a blank line behind each": lambda lines: [part for line in lines for part in (line, "")],
    "each line many times": lambda lines: [line for line in lines for _ in range(40)],
    "headers alone": lambda lines: next(([line] for line in lines if line), []) * 50,
    "blank lines alone": lambda _: [""],
    "the last line alone": lambda lines: lines[-1:] * 50,
    "long lines": lambda lines: [line + " " + line.strip() * (4000 // max(len(line), 1)) for line in lines],
    "no ends": lambda lines: ["".join(lines)],
    "prefixed": lambda lines: [f"2026-11-01 00:00:01,123 ERROR [gate-1] skerry.Gate - {line}" for line in lines],
    "wrapped": lambda lines: [json.dumps({"log": "\n".join(lines)})],
    "deeper and deeper": lambda lines: [" " * (i % 200) + line for i, line in enumerate(lines * 5)],
    "blank lines between wholes": lambda lines: [*lines, *[""] * 30],
}


def grown(language: str, twist: str, size: int) -> str:
    """Return so many characters of a language's traces, twisted."""
    lines = [line for one in TRACES if one["language"] == language for line in TWISTS[twist](one["text"].splitlines())]
    text = "\n".join(lines) + "\n"
    return (text * (size // len(text) + 1))[:size]


@pytest.mark.slow
@pytest.mark.timeout(600)
@pytest.mark.parametrize("language", LANGUAGES)
def test_reading_is_linear(language: str) -> None:
    """Four times the text takes about four times the time, and no twist takes many times what traces take as they are."""
    bad = []
    took = {twist: seconds_for(language, twist, MIDDLE) for twist in TWISTS}
    plain = took["as they are"]
    for twist, took_s in took.items():
        if took_s > MOST_TIMES_AS_LONG * max(plain, 0.02):
            times = times_as_long(language, ("as they are", MIDDLE), (twist, MIDDLE), MOST_TIMES_AS_LONG)
            if times > MOST_TIMES_AS_LONG:
                bad.append(f"{twist}: {took_s:.2f} s, and {plain:.2f} s as they are")
                continue
        # What takes less would, were it quadratic, take a few seconds for a megabyte.
        if took_s >= LINEAR_S and took_s > MOST_GROWTH * seconds_for(language, twist, SMALL):
            times = times_as_long(language, (twist, SMALL), (twist, MIDDLE), MOST_GROWTH)
            if times > MOST_GROWTH:
                bad.append(f"{twist}: {took_s:.2f} s, {times:.1f} times what a quarter of it takes")
    slowest = max(took, key=lambda twist: took[twist])
    if seconds_for(language, slowest, LARGE) > MOST_GROWTH * took[slowest]:
        times = times_as_long(language, (slowest, MIDDLE), (slowest, LARGE), MOST_GROWTH)
        if times > MOST_GROWTH:
            bad.append(f"{slowest}: {times:.1f} times as long for a megabyte as for a quarter of one")
    assert not bad, f"{language}: " + "; ".join(bad)


def seconds_for(language: str, twist: str, size: int) -> float:
    """Return how long reading so many characters of a language's traces takes, twisted."""
    text = grown(language, twist, size)
    return seconds(lambda: find_stacks(text))


def times_as_long(language: str, one: tuple[str, int], other: tuple[str, int], most: float) -> float:
    """Return how many times as long the other twist, or size, takes."""
    texts = [grown(language, *which) for which in (one, other)]
    return growth(lambda: find_stacks(texts[0]), lambda: find_stacks(texts[1]), most)
