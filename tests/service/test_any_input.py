"""Any bytes at all given to any parser: an answer, or a refusal in words. ``make fuzz`` does the same for as long as one says."""

from __future__ import annotations

import random

import pytest
from bench.fuzz.targets import TARGETS
from hypothesis import given, settings
from hypothesis import strategies as st


def twisted(seed: bytes, dice: random.Random) -> bytes:
    """Return an input that is nearly right: cut, doubled, with bytes changed, or with another piece of itself in it."""
    made = bytearray(seed)
    for _ in range(dice.randrange(1, 6)):
        at = dice.randrange(len(made) + 1)
        match dice.randrange(4):
            case 0:
                made = made[:at] or bytearray(b"\0")
            case 1:
                made[at:at] = made[: dice.randrange(40)]
            case 2 if made:
                made[at % len(made)] = dice.randrange(256)
            case _:
                made[at:at] = dice.choice(
                    [b"\xff", b"\0", b'"', b"{", b"[" * 50, b"\\ud800", b"\n", b"9" * 30, b"\xe2\x80\xae"]
                )
    return bytes(made)


@pytest.mark.parametrize("name", TARGETS)
@settings(max_examples=60, deadline=None)
@given(data=st.one_of(st.binary(max_size=2000), st.text(max_size=500).map(str.encode), st.integers(0, 2**32)))
def test_any_input(name: str, data: bytes | int) -> None:
    """Bytes, texts, and inputs that are nearly right."""
    if isinstance(data, int):
        dice = random.Random(data)
        data = twisted(dice.choice(TARGETS[name].seeds()), dice)
    TARGETS[name].drive(data)
