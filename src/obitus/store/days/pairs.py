"""Attributes as pairs of a name and a value: repeated ones are numbers of texts, the others are in the row."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from obitus.core.remembering import remembered
from obitus.core.terms import indexed_words, terms_of
from obitus.store.days.texts import Texts


def pairs_of(attributes: Mapping[str, Any]) -> tuple[tuple[str, bool], ...]:
    """Return each attribute as JSON (``"name":value``), and whether it may repeat: floating-point numbers hardly do."""
    pairs = []
    for name, value in attributes.items():
        kind = type(value)
        if kind is str and len(value) < 100:
            pair = _text_pair(name, value)
        elif kind is int:
            pair = f"{_written(name)}:{value}"
        else:
            pair = f"{_written(name)}:{json.dumps(value, ensure_ascii=False, separators=(',', ':'))}"
        pairs.append((pair, kind is not float))
    return tuple(pairs)


@remembered(4096)
def _written(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


@remembered(8192)
def _text_pair(name: str, value: str) -> str:
    return f"{_written(name)}:{json.dumps(value, ensure_ascii=False)}"


def indexed(text: str, attributes: Mapping[str, Any], named: Mapping[str, Any]) -> str:
    """Return the text of a row for the text index: the words of its text, the terms of its attributes and further fields."""
    pairs = [*((name, value) for name, value in named.items() if value), *attributes.items()]
    return " ".join([*indexed_words(text), *terms_of(pairs)])


def id_of(text: str | None) -> bytes | None:
    """Return the bytes of an id written in hexadecimal digits, with dashes or without."""
    return bytes.fromhex(text.replace("-", "")) if text else None


def kept(pairs: Iterable[tuple[str, bool]], texts: Texts) -> tuple[bytes | None, str | None]:
    """Return the values of a row's columns ``shared`` and ``attributes``."""
    numbers, others = bytearray(), []
    for pair, may_repeat in pairs:
        number = texts.number_if_it_repeats(pair) if may_repeat else None
        if number is None:
            others.append(pair)
            continue
        numbers += in_bytes(number)
    return bytes(numbers) or None, "{" + ",".join(others) + "}" if others else None


def in_bytes(number: int) -> bytes:
    """Return a number in the form of a column ``shared`` (LEB128)."""
    written = bytearray()
    while number > 0x7F:
        written.append(number & 0x7F | 0x80)
        number >>= 7
    written.append(number)
    return bytes(written)


def is_among(written: bytes, shared: bytes) -> bool:
    """Whether a column ``shared`` contains a number in this form, not as the end of a longer one."""
    at = shared.find(written)
    while at > 0 and shared[at - 1] > 0x7F:
        at = shared.find(written, at + 1)
    return at >= 0


def numbers_in(shared: bytes | None) -> list[int]:
    """Return the numbers of texts in a column ``shared`` (LEB128, as in DWARF and WebAssembly)."""
    numbers, number, shift = [], 0, 0
    for byte in shared or b"":
        number |= (byte & 0x7F) << shift
        shift += 7
        if byte < 0x80:
            numbers.append(number)
            number, shift = 0, 0
    return numbers


def attributes_of(shared: bytes | None, others: str | None, text_of: Callable[[int], str]) -> dict[str, Any]:
    """Return the attributes of a row."""
    attributes: dict[str, Any] = json.loads("{" + ",".join(text_of(number) for number in numbers_in(shared)) + "}")
    return attributes | json.loads(others) if others else attributes
