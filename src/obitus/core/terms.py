"""Terms of the text index: the words of a record, and a term for each name and value."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from hashlib import blake2b
from typing import Any, Final

from obitus.core.remembering import remembered

LONGEST_WORD: Final = 60
MOST_WORDS: Final = 500
MOST_CHARACTERS: Final = 10_000
MOST_TERMS: Final = 100
MORE: Final = "~more"
"""The term of a record with more than what is indexed: every search has to check these records."""
# Scripts that put no space between words: Thai, Lao, Burmese and Khmer, kana, and the ideographs of Chinese and Japanese
# (Unicode, Blocks.txt).
_UNSPACED: Final = (
    "\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3040-\u30ff\u31f0-\u31ff\u3400-\u4dbf\u4e00-\u9fff\uf900-\ufaff\uff66-\uff9f"
    "\U00020000-\U0003ffff"
)
_ASCII_WORD = re.compile(r"[^\W_]+")
_WORD = re.compile(rf"[^\W_{_UNSPACED}]+|(?=[^\W_])[{_UNSPACED}]")
_LETTER = re.compile(f"[{_UNSPACED}]")
_DIGITS: Final = "0123456789abcdefghijklmnopqrstuvwxyz"


def words_of(text: str) -> list[str]:
    """Return the words of a text in order, in lower case: runs of letters and digits. Long ones are cut. Where a script
    puts no space between words, each letter is a word: a question for some of them finds them in a row.
    """
    words: list[str] = (_ASCII_WORD if text.isascii() else _WORD).findall(text.casefold())
    return words if len(text) <= LONGEST_WORD else [word[:LONGEST_WORD] for word in words]


def is_letter(word: str) -> bool:
    """Whether a word is a letter of a script without spaces between words."""
    return _LETTER.fullmatch(word) is not None


def indexed_words(text: str) -> list[str]:
    """Return the different words of a text for the index: of a very long text the first ones, and ``MORE``."""
    words = words_of(text[:MOST_CHARACTERS])
    # Where the text is cut, the last one may be half a word.
    different = list(dict.fromkeys(words[:-1] if len(text) > MOST_CHARACTERS else words))
    if len(different) <= MOST_WORDS and len(text) <= MOST_CHARACTERS:
        return different
    return [*different[:MOST_WORDS], MORE]


def value_text(value: Any) -> str:
    """Return a value as text: true and false, numbers as they are written, lists and objects as JSON."""
    if isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 2**53 else repr(value)
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


@remembered(8000)
def term(name: str, value: str) -> str:
    """Return the term of a name and its value: 52 bits of their hash (BLAKE2b), in ten digits and letters after a
    ``~``. Two may share one, so matches are compared again.
    """
    digest = blake2b(f"{name}\0{value}".encode("utf-8", "surrogatepass"), digest_size=8).digest()
    number = int.from_bytes(digest, "big") >> 12
    text = ""
    while number:
        number, digit = divmod(number, 36)
        text += _DIGITS[digit]
    return "~" + text


def terms_of(pairs: Iterable[tuple[str, Any]]) -> list[str]:
    """Return the terms of names and values; null has none; beyond the bound there is ``MORE``."""
    terms: list[str] = []
    for name, value in pairs:
        if value is None:
            continue
        if len(terms) >= MOST_TERMS:
            return [*terms, MORE]
        terms.append(term(name, value_text(value)))
    return terms
