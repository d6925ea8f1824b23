"""Many lines of an access log at a time: what they say as columns of numbers, worked out without a loop over lines.

Needs NumPy, which comes with the service. Whatever a row cannot be sure of is left to who reads line by line.

Eight bytes are looked at as one number (after L. Lamport, Multiple Byte Processing with Full-Word Instructions, 1975).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Any, Final, NamedTuple

import numpy as np
from numpy.typing import NDArray

from obitus.core.clock import HOUR_MS
from obitus.core.log_files.requests import (
    MOST_REMEMBERED,
    Counts,
    Hours,
    LineForm,
    WholeLine,
    count_each,
    count_line,
    point_of,
)

Words = NDArray[np.uint64]
Places = NDArray[np.intp]

AHEAD: Final = 32
"""Bytes of a block before its first line: what stands before a place may be looked at without asking."""
_BEHIND: Final = b'""' + b"\0" * 64
SLOTS: Final = 2**18
_TO_SLOT: Final = np.uint64(64 - 18)
_UNKNOWN, _BY_DIGITS = -1, -2
_DIGIT = re.compile(r"\d")
MOST_WORDS: Final = 64
"""A path of more than eight times as many bytes is left to who reads line by line."""

_EACH: Final = 0x0101010101010101
_LOWEST, _HIGHEST = np.uint64(_EACH), np.uint64(0x80 * _EACH)
_ALL: Final = np.uint64(2**64 - 1)
_ONE, _SEVEN, _HALF = np.uint64(1), np.uint64(7), np.uint64(32)
_QUESTION: Final = np.uint64(0x3F * _EACH)
_BLANK: Final = np.uint64(0x20 * _EACH)
_QUOTE, _QUOTE_BIT = np.uint64(0x22 * _EACH), np.uint64(0x02 * _EACH)
_ZEROS, _BEYOND_NINE, _LOW_BITS = np.uint64(0x30 * _EACH), np.uint64(0x76 * _EACH), np.uint64(0x0F)
_MIX: Final = np.uint64(0x9E3779B97F4A7C15)
"""An odd number without a pattern, 2**64 divided by the golden ratio (D. Knuth, The Art of Computer Programming, 6.4)."""
_BY_MOMENT, _BY_POINT, _DIGITS = np.uint64(48), np.uint64(24), np.uint64(0xFFFFFF)
"""What is counted together is one number: which hour, which entry point, the three digits of the status."""


class Block:
    """Some whole lines, as bytes and as words. Every line has a newline before it and one behind it."""

    def __init__(self, piece: bytes, start: int, end: int) -> None:
        last = b"" if piece[end - 1 : end] == b"\n" else b"\n"
        self.text = b"".join((b"." * (AHEAD - 1), b"\n", memoryview(piece)[start:end], last, _BEHIND))
        self.bytes = np.frombuffer(self.text, np.uint8)
        self.words: Words = np.ndarray((len(self.text) - 7,), np.dtype("<u8"), self.text, 0, (1,))
        """The eight bytes from each place on."""
        self.end = AHEAD + end - start + len(last)
        """Where the last line has ended."""

    def line(self, newline: int) -> tuple[int, bytes]:
        """Return the line behind a newline, and where it begins, counted from the first line."""
        start = newline + 1
        return start - AHEAD, self.text[start : self.text.index(b"\n", start)]


class Columns(NamedTuple):
    """What lines say, a row for each; where ``fine`` is false, a row means nothing."""

    newlines: Places
    """Where the newline before each line stands in the block."""
    fine: NDArray[np.bool_]
    hour: tuple[Words, ...]
    """The bytes that name the hour, with the day and what else it depends on."""
    hour_at: Places
    """Where its digits stand; those of the minute stand three bytes behind."""
    written: Callable[[int], bytes]
    """Given where the digits of an hour stand, returns this hour as ``hours`` reads it."""
    hours: Hours
    asked: Asked
    method_at: Places
    path_at: Places
    """The path begins behind the method and one blank."""
    status: Words
    """Its three digits, in the lowest bytes; what stands above them counts for nothing."""
    odd: Places
    """Newlines before lines that there is no row for."""


def like(words: Words, form: bytes) -> NDArray[np.bool_]:
    """Tell which words look like eight bytes: ``0`` stands for any digit, ``5`` for one up to 5, ``_`` for anything."""
    exact, value, digits, wanted, add = _form(form)
    found: NDArray[np.bool_] = (words & (words + add) & digits) == wanted
    if exact:
        found &= (words & exact) == value
    return found


@lru_cache(maxsize=64)
def _form(form: bytes) -> tuple[np.uint64, ...]:
    exact = digits = wanted = add = value = 0
    for at, one in enumerate(form):
        if one in b"05":
            # A digit stays below 0x40 when six is added, one up to five when ten is; nothing else is from 0x30 on both times.
            digits |= 0xF0 << 8 * at
            wanted |= 0x30 << 8 * at
            add |= (6 if one == 0x30 else 10) << 8 * at
        elif one != 0x5F:
            exact |= 0xFF << 8 * at
            value |= one << 8 * at
    return tuple(map(np.uint64, (exact, value, digits, wanted, add)))


def _are_zero(words: Words) -> Words:
    """Return words whose highest bits say which bytes are zero; of those above the first, that is not sure."""
    return (words - _LOWEST) & ~words


def _first_of(told: Words) -> Words:
    """Return a one in the place of the first byte whose highest bit is set; 0 where none is."""
    told &= _HIGHEST
    told &= ~told + _ONE
    told >>= _SEVEN
    return told


@dataclass(frozen=True, slots=True)
class Asked:
    """How a form writes what was asked: method, blank, path."""

    pattern: re.Pattern[bytes]
    quoted: bool
    """Whether a quote ends the path too; a blank and a question mark always do."""

    def until(self, words: Words) -> tuple[Words, Words]:
        """Return which bytes of each word stand before the first that ends a path, and a mark in the place of that one."""
        ends = _are_zero(((words | _QUOTE_BIT) ^ _QUOTE) if self.quoted else (words ^ _BLANK))
        ends |= _are_zero(words ^ _QUESTION)
        mark = _first_of(ends)
        return mark - _ONE, mark


class EntryPoints:
    """Numbers of entry points, by what was asked; what was asked before is known again by a hash of 64 bits.

    Most ids are digits. So it is first looked for whatever the digits are, and by them only where the entry point's
    name has any.
    """

    def __init__(self, asked: Asked) -> None:
        self._asked = asked
        self._clear()

    def _clear(self) -> None:
        self.names: list[str] = []
        self._numbers: dict[str, int] = {}
        self._by_shape, self._by_digits = _Known(), _Known()

    def of(self, block: Block, method_at: Places, path_at: Places) -> NDArray[np.int64]:
        """Return the number of each request's entry point; -1 where this cannot be told."""
        if self._by_shape.full or self._by_digits.full:
            self._clear()
        name = partial(self._number, block)
        hashes = self._hash(block, method_at, path_at, any_digit=True)
        numbers = self._by_shape.of(hashes, method_at, partial(name, any_digit=True))
        differ = np.flatnonzero(numbers == _BY_DIGITS)
        if len(differ):
            method_at, path_at = method_at[differ], path_at[differ]
            hashes = self._hash(block, method_at, path_at, any_digit=False)
            numbers[differ] = self._by_digits.of(hashes, method_at, partial(name, any_digit=False))
        return numbers

    def _number(self, block: Block, method: int, *, any_digit: bool) -> int:
        asked = self._asked.pattern.match(block.text, method)
        if asked is None:
            return _UNKNOWN
        name = point_of(asked[0])
        if any_digit and _DIGIT.search(name):
            return _BY_DIGITS
        number = self._numbers.setdefault(name, len(self.names))
        if number == len(self.names):
            self.names.append(name)
        return number

    def _hash(self, block: Block, method_at: Places, path_at: Places, *, any_digit: bool) -> Words:
        """Return a hash of each method and path, up to where it ends; 0 where that is too far away."""
        words = block.words[method_at]
        before, _ = self._asked.until(words)
        hashes: Words = (words & before) * _MIX
        rows: Places | None = None
        at = path_at
        for _ in range(MOST_WORDS):
            words = block.words[at]
            before, end = self._asked.until(words)
            words &= before
            words |= end
            if any_digit:
                words &= ~_low_bits_of_digits(words)
            mine = hashes if rows is None else hashes[rows]
            mine ^= words
            mine *= _MIX
            mine ^= mine >> _HALF
            more = np.flatnonzero(before == _ALL)
            if rows is not None:
                hashes[rows] = mine
            if not len(more):
                return hashes
            rows, at = more if rows is None else rows[more], at[more] + 8
        hashes[rows] = 0
        return hashes


class _Known:
    """Numbers by hashes of 64 bits. Most are found at once, in the slot of their hash; others by and by."""

    def __init__(self) -> None:
        self._numbers = {0: _UNKNOWN}
        self._hashes = np.zeros(SLOTS, np.uint64)
        self._at = np.full(SLOTS, _UNKNOWN, np.int64)

    @property
    def full(self) -> bool:
        """Whether it holds so many that it is time to forget them."""
        return len(self._numbers) >= MOST_REMEMBERED

    def of(self, hashes: Words, places: Places, number: Callable[[int], int]) -> NDArray[np.int64]:
        """Return the number of each hash; ``number`` tells that of a new one from its place."""
        slots = (hashes >> _TO_SLOT).astype(np.intp)
        numbers: NDArray[np.int64] = self._at[slots]
        strange = np.flatnonzero(self._hashes[slots] != hashes)
        if len(strange):
            new, first, which = np.unique(hashes[strange], return_index=True, return_inverse=True)
            found = []
            for hash_, place in zip(new.tolist(), places[strange[first]].tolist(), strict=True):
                if hash_ not in self._numbers:
                    self._numbers[hash_] = number(place)
                found.append(self._numbers[hash_])
            numbers[strange] = np.array(found)[which]
            slots = slots[strange[first]]
            self._hashes[slots], self._at[slots] = new, found
        return numbers


def _low_bits_of_digits(words: Words) -> Words:
    """Return the bits by which one digit differs from another, wherever a byte is a digit."""
    others = words ^ _ZEROS
    others |= (others & ~_HIGHEST) + _BEYOND_NINE
    digits: Words = ((~others & _HIGHEST) >> _SEVEN) * _LOW_BITS
    return digits


@lru_cache(maxsize=8)
def _entry_points(asked: Asked) -> EntryPoints:
    return EntryPoints(asked)


def method_ends(block: Block, method_at: Places) -> Places:
    """Return where the blank behind each method stands; where the eighth byte does if there is none before."""
    blank = _first_of(_are_zero(block.words[method_at] ^ _BLANK))
    behind: Places = method_at + (np.bitwise_count(blank - _ONE) >> 3)
    return behind


def count(counts: Counts, piece: bytes, start: int, end: int, form: LineForm) -> None:
    """Count the whole lines of a piece between two places."""
    block = Block(piece, start, end)
    columns = form.columns(block)
    if columns is None:
        count_each(counts, piece[start:end], start, form)
        return
    rows = _Rows(columns)
    rows.leave(~columns.fine)
    starts = _starts(block, columns, rows)
    points = _entry_points(columns.asked)
    numbers = points.of(block, rows.of(columns.method_at), rows.of(columns.path_at))
    unknown = (starts < 0) | (numbers < 0)
    if unknown.any():
        rows.leave(unknown)
        starts, numbers = starts[~unknown], numbers[~unknown]
    status = rows.of(columns.status)
    moments, which = np.unique(starts, return_inverse=True)
    codes = (which.astype(np.uint64) << _BY_MOMENT) | (numbers.astype(np.uint64) << _BY_POINT) | (status & _DIGITS)
    found, times = np.unique(codes, return_counts=True)
    for code, n in zip(found.tolist(), times.tolist(), strict=True):
        digits = int((code & 0xFFFFFF).to_bytes(3, "little"))
        counts.runs[int(moments[code >> 48]), points.names[code >> 24 & 0xFFFFFF], digits] += n
    newlines = rows.of(columns.newlines)
    counts.lines += len(newlines)
    not_well = newlines[(status & np.uint64(0xFF)) >= ord("4")]
    counts.not_well += len(not_well)
    for newline in not_well.tolist() if counts.tells else ():
        at, line = block.line(newline)
        counts.whole_lines.append(WholeLine(start + at, line, form))
    for newline in rows.odd():
        at, line = block.line(newline)
        if line and not line.isspace():
            count_line(counts, line, start + at, form)


class _Rows:
    """The rows that are still counted; those that were left are odd."""

    def __init__(self, columns: Columns) -> None:
        self._newlines = columns.newlines
        self._odd = [columns.odd]
        self._rows: Places | None = None

    def of(self, column: NDArray[Any]) -> NDArray[Any]:
        return column if self._rows is None else column[self._rows]

    def leave(self, which: NDArray[np.bool_]) -> None:
        if which.any():
            self._odd.append(self.of(self._newlines)[which])
            stay = np.flatnonzero(~which)
            self._rows = stay if self._rows is None else self._rows[stay]

    def odd(self) -> list[int]:
        return [int(newline) for newline in np.sort(np.concatenate(self._odd))]


def _starts(block: Block, columns: Columns, rows: _Rows) -> NDArray[np.int64]:
    """Return the start of each row's hour (Unix milliseconds); -1 where it bears no time."""
    hour_at = rows.of(columns.hour_at)
    if not len(hour_at):
        return np.zeros(0, np.int64)
    changes = np.zeros(len(hour_at), np.bool_)
    changes[0] = True
    for column in columns.hour:
        words = rows.of(column)
        changes[1:] |= words[1:] != words[:-1]
    firsts = np.flatnonzero(changes)
    moments = [columns.hours.moment(columns.written(at)) for at in hour_at[firsts].tolist()]
    known = np.array([-1 if moment is None else moment for moment in moments], np.int64)
    starts = np.repeat(known, np.diff(firsts, append=len(hour_at)))
    if (known % HOUR_MS)[known >= 0].any():
        # An offset of no whole hours: which hour it is depends on the minute.
        tens, ones = (block.bytes[hour_at + 3 + digit].astype(np.int64) - ord("0") for digit in (0, 1))
        within = starts + (tens * 10 + ones) * 60_000
        starts = np.where(starts < 0, starts, within - within % HOUR_MS)
    return starts
