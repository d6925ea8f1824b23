"""What records are found by in the text index: their words, and a term for each name and value."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from hashlib import blake2b
from typing import Any, Final

LONGEST_WORD: Final = 60
MOST_WORDS: Final = 500
MOST_CHARACTERS: Final = 10_000
MOST_TERMS: Final = 100
_WORD = re.compile(r"[^\W_]+")
_DIGITS: Final = "0123456789abcdefghijklmnopqrstuvwxyz"


def words_of(text: str) -> list[str]:
    """Return the words of a text in order, in lower case: runs of letters and digits. Long ones are cut."""
    return [word[:LONGEST_WORD] for word in _WORD.findall(text.casefold())]


def indexed_words(text: str) -> list[str]:
    """Return the different words of a text that the index holds: of a very long text only those it begins with."""
    found = words_of(text[:MOST_CHARACTERS])
    # Where the text goes on, the last one may be half a word.
    return list(dict.fromkeys(found[:-1] if len(text) > MOST_CHARACTERS else found))[:MOST_WORDS]


def is_indexed_whole(text: str) -> bool:
    """Whether the index holds every word of a text."""
    return len(text) <= MOST_CHARACTERS and len(set(words_of(text))) <= MOST_WORDS


def value_text(value: Any) -> str | None:
    """Return by what text an attribute's value is asked for exactly; None for lists and objects, which are not."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 2**53 else repr(value)
    return value if isinstance(value, str) else None


@lru_cache(20_000)
def term(name: str, value: str) -> str:
    """Return the term of a name and its value: 52 bits of their hash (BLAKE2b), in ten digits and letters behind a ``~``.

    Two may share one, so what is found by it is compared once more.
    """
    digest = blake2b(f"{name}\0{value}".encode("utf-8", "surrogatepass"), digest_size=8).digest()
    number = int.from_bytes(digest, "big") >> 12
    text = ""
    while number:
        number, digit = divmod(number, 36)
        text += _DIGITS[digit]
    return "~" + text


def terms_of(pairs: Iterable[tuple[str, Any]]) -> list[str]:
    """Return the terms of names and values; those without a value to ask for, and what goes beyond the most, have none."""
    found: list[str] = []
    for name, value in pairs:
        text = value_text(value)
        if text is not None and len(found) < MOST_TERMS:
            found.append(term(name, text))
    return found
