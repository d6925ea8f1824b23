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
SMALL, LARGE = 250_000, 1_000_000
LINEAR_S, MOST_GROWTH = 1.0, 7.0
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
    plain_text = grown(language, "as they are", SMALL)
    plain = seconds(lambda: find_stacks(plain_text))
    for twist in TWISTS:
        small_text = grown(language, twist, SMALL)
        small = seconds(lambda: find_stacks(small_text))  # noqa: B023 - at once
        if small > MOST_TIMES_AS_LONG * max(plain, 0.02):
            times = growth(lambda: find_stacks(plain_text), lambda: find_stacks(small_text), MOST_TIMES_AS_LONG)  # noqa: B023 - at once
            if times > MOST_TIMES_AS_LONG and small > MOST_TIMES_AS_LONG * 0.02:
                bad.append(f"{twist}: {small:.2f} s, and {plain:.2f} s as they are")
                continue
        if small < LINEAR_S / 4:
            # Were it quadratic, it would still be below what a reader may take for four times the text.
            continue
        large_text = grown(language, twist, LARGE)
        if seconds(lambda: find_stacks(large_text)) <= MOST_GROWTH * small:  # noqa: B023 - at once
            continue
        times = growth(lambda: find_stacks(small_text), lambda: find_stacks(large_text), MOST_GROWTH)  # noqa: B023 - at once
        if times > MOST_GROWTH:
            bad.append(f"{twist}: {small:.2f} s, and {times:.1f} times that for four times as much")
    assert not bad, f"{language}: " + "; ".join(bad)
