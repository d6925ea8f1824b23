"""Looking at eight bytes as one number comes to the same as looking at each byte."""

from __future__ import annotations

import re

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.log_files.columns import Asked, Block, EntryPoints, like, method_ends
from obitus.core.log_files.requests import entry_point

NEAR = st.sampled_from(b'0123456789/:;*,-. "?\x00\n\x7f\x80\xb0\xf6\xffAZaz@')
WORDS = st.lists(st.lists(NEAR | st.integers(0, 255), min_size=8, max_size=8).map(bytes), min_size=1, max_size=20)
QUOTED = Asked(re.compile(rb'[A-Z]{1,7} [^ ?"\n]*+'), quoted=True)


def looks_like(word: bytes, form: bytes) -> bool:
    """Say it byte by byte."""
    return all(
        sign == ord("_") or (ord("0") <= byte <= (ord("9") if sign == ord("0") else ord("5")) if sign in b"05" else byte == sign)
        for byte, sign in zip(word, form, strict=True)
    )  # fmt: skip


@given(WORDS, st.lists(st.sampled_from(b'05_: "/'), min_size=8, max_size=8).map(bytes))
def test_what_words_look_like(words: list[bytes], form: bytes) -> None:
    """Digits, digits up to five, signs as they are, and places that do not matter."""
    told = like(np.frombuffer(b"".join(words), np.dtype("<u8")), form)
    assert told.tolist() == [looks_like(word, form) for word in words]


@given(WORDS)
def test_where_a_path_ends(words: list[bytes]) -> None:
    """At the first blank, quote or question mark; all that stands before it counts."""
    before, mark = QUOTED.until(np.frombuffer(b"".join(words), np.dtype("<u8")))
    for word, counts, end in zip(words, before.tolist(), mark.tolist(), strict=True):
        length = next((at for at, byte in enumerate(word) if byte in b' "?'), 8)
        assert counts == 2 ** (8 * length) - 1 and end == (0 if length == 8 else 2 ** (8 * length))


@given(st.lists(st.tuples(st.sampled_from(["GET", "PUT", "OPTIONS"]), st.from_regex(r"/[a-c0-9/]{0,40}", fullmatch=True)), min_size=1, max_size=30))  # fmt: skip
def test_entry_points_known_again(asked: list[tuple[str, str]]) -> None:
    """Whatever digits a path holds, its entry point is its own: asked for the first time or again."""
    lines = "".join(f"{method} {path} \n" for method, path in asked).encode()
    block, points = Block(lines, 0, len(lines)), EntryPoints(QUOTED)
    method_at = np.flatnonzero(block.bytes[: block.end - 1] == ord("\n")) + 1
    for _ in range(2):
        numbers = points.of(block, method_at, method_ends(block, method_at) + 1)
        assert [points.names[number] for number in numbers.tolist()] == [entry_point(*one) for one in asked]
