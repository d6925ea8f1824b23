"""Ten thousand conditions, made by chance: each is refused with its place, or comes to a value or to why there is none. No line of the app runs."""

from __future__ import annotations

import contextlib
import random
from typing import Any

import pytest

from obitus.core.tracepoints import Evaluated, ExpressionTrouble, NoValue, compiled, holds, read, written

COUNT = 10_000
NAMES = ("passengers", "base", "vessel", "rates", "items", "self", "harbour", "tides", "text", "len")
LEAVES = ("0", "1", "7.5", "1e300", '"eastholm"', "'x'", "True", "None", "99999999999999999999")
FUNCTIONS = ("len", "abs", "round", "min", "max", "lower", "upper", "strip", "begins", "ends", "text", "type")
JOINING = ("+", "-", "*", "/", "//", "%", "<", "<=", "==", "!=", "in", "not in", "is", "is not", "and", "or")
SCRAPS = (
    *NAMES,
    *LEAVES,
    *JOINING,
    "(",
    ")",
    "[",
    "]",
    ".",
    ",",
    "not",
    "-",
    "__class__",
    "lambda",
    "{",
    "}",
    "'",
    '"',
    "\\",
    "@",
    ":=",
    "**",
    "if",
    "é",
    "\n",
)


class Untouched:
    """Raises at whatever is asked of it, and counts."""

    touched = 0

    def _touch(self, *_: Any) -> Any:
        Untouched.touched += 1
        raise SystemExit("code of the app ran")

    __getattr__ = __getitem__ = __eq__ = __ne__ = __lt__ = __add__ = __radd__ = __mul__ = __rmul__ = _touch
    __bool__ = __len__ = __contains__ = __iter__ = __str__ = __repr__ = __hash__ = __int__ = __neg__ = __abs__ = _touch  # type: ignore[assignment]
    harbour = property(_touch)


def grown(dice: random.Random, deep: int) -> str:
    """Return an expression, whatever sense it makes."""
    way = dice.random()
    if deep <= 0 or way < 0.25:
        return dice.choice(NAMES[:8]) if dice.random() < 0.6 else dice.choice(LEAVES)
    if way < 0.6:
        return f"({grown(dice, deep - 1)} {dice.choice(JOINING)} {grown(dice, deep - 1)})"
    if way < 0.7:
        return f"{dice.choice(('-', 'not '))}({grown(dice, deep - 1)})"
    if way < 0.8:
        return f"({grown(dice, deep - 1)}).{dice.choice(NAMES[:8])}"
    if way < 0.9:
        return f"({grown(dice, deep - 1)})[{grown(dice, deep - 1)}]"
    return f"{dice.choice(FUNCTIONS)}({', '.join(grown(dice, deep - 2) for _ in range(dice.randint(1, 2)))})"


@pytest.fixture
def seen() -> dict[str, Any]:
    """What a line sees: of everything something."""
    return {
        "passengers": 6, "base": 12.5, "vessel": "Skerry", "rates": {"van": 4, "car": None, 3: [1]},
        "items": [1, "two", (3,), {4}, Untouched()], "self": Untouched(), "text": b"tide",
    }  # fmt: skip


@pytest.mark.slow
def test_conditions_that_make_sense_to_nobody(seen: dict[str, Any]) -> None:
    """Read, written, worked out: the same expression again, and never an exception that is not the language's own."""
    dice = random.Random("tides")
    Untouched.touched = 0
    outcomes = {"value": 0, "none": 0, "refused": 0}
    for _ in range(COUNT // 2):
        text = grown(dice, 4)
        try:
            expression = read(text)
        except ExpressionTrouble as trouble:
            assert 1 <= trouble.position <= len(text) + 1
            outcomes["refused"] += 1
            continue
        assert read(written(expression)) == expression
        work = compiled(expression)
        found = Evaluated.out(work, seen, {"harbour": 1})
        with contextlib.suppress(NoValue, RuntimeError):
            holds(work(seen, {"harbour": 1}))
        outcomes["none" if found.why_not else "value"] += 1
    assert min(outcomes["value"], outcomes["none"]) > COUNT // 20, outcomes
    assert Untouched.touched == 0


def test_scraps_of_text() -> None:
    """What is no expression is refused with the place where it stops to be one."""
    dice = random.Random("scraps")
    refused = 0
    for _ in range(COUNT // 2):
        text = dice.choice(("", " ")).join(dice.choice(SCRAPS) for _ in range(dice.randint(1, 12)))
        try:
            read(text)
        except ExpressionTrouble as trouble:
            refused += 1
            assert 1 <= trouble.position <= len(text) + 1 and str(trouble)
    assert refused > COUNT // 4
