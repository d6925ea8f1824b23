"""The mappings of a source map as columns of numbers.

Source: ECMA-426, first edition, *Mappings structure*: lines end with ``;``, segments with ``,``; a segment is one, four or five
base64 VLQ numbers, each relative to the one before it. So each value is a running sum. The text is decoded with
arrays, not character by character.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

import numpy as np
from numpy.typing import NDArray

Column = NDArray[np.int32]
MOST_DIGITS: Final = 7
"""A number has 32 bits, of five a digit."""
_ALPHABET: Final = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"
# Separators have no value: their last five bits are zero.
_COMMA, _SEMICOLON, _ODD = 64, 96, 128


def _values() -> bytes:
    values = bytearray([_ODD] * 256)
    for value, sign in enumerate(_ALPHABET):
        values[sign] = value
    values[ord(",")], values[ord(";")] = _COMMA, _SEMICOLON
    return bytes(values)


_VALUES: Final = _values()
_FARTHEST: Final = 2**31 - 1
_IS_LENGTH: Final = np.array([False, True, False, False, True, True])


class MappingsTrouble(ValueError):
    """Raised for invalid mappings; the message says where."""


@dataclass(frozen=True, slots=True)
class Segments:
    """All segments of a map, by line and column of the built code. All numbers begin at 0; -1 where a segment has no source or name."""

    columns: Column
    sources: Column
    lines: Column
    source_columns: Column
    names: Column
    begins: Column
    """For each line of the built code the index of its first segment, and at the end the number of segments."""

    def at(self, line: int, column: int) -> tuple[int, int, int, int] | None:
        """Return the source, line, column and name of the segment that contains a place, all from 0; None where there is none."""
        if line >= len(self.begins) - 1:
            return None
        first, last = int(self.begins[line]), int(self.begins[line + 1])
        columns = self.columns[first:last]
        # With another type than the column's, numpy would copy all of it.
        place = int(columns.searchsorted(np.int32(min(column, _FARTHEST)), "right")) - 1
        if place < 0:
            return None
        # Of several at that very column the first counts, of those before it the last.
        if columns[place] == column:
            place = int(columns.searchsorted(columns[place], "left"))
        place += first
        return tuple(int(one[place]) for one in (self.sources, self.lines, self.source_columns, self.names))  # type: ignore[return-value]


def decode(mappings: bytes) -> Segments:
    """Decode mappings to segments; raises MappingsTrouble. Time and memory are proportional to their length."""
    digits = np.frombuffer(mappings.translate(_VALUES), np.uint8)
    if len(digits) and digits.max() == _ODD:
        raise MappingsTrouble(f"the sign at {int(np.argmax(digits == _ODD)) + 1} is none of the mappings' alphabet")
    goes_on = (digits >= 32) & (digits < _COMMA)
    if np.any(goes_on[:-1] & (digits[1:] >= _COMMA)) or (len(goes_on) and goes_on[-1]):
        raise MappingsTrouble("a number is cut off")
    is_end = digits < 32
    separators = np.flatnonzero(digits >= _COMMA)
    before = np.cumsum(is_end, dtype=np.int32)[separators]
    numbers = _numbers(digits, np.flatnonzero(is_end), goes_on)
    return _segments(digits[separators] == _SEMICOLON, before, numbers)


def _numbers(digits: NDArray[np.uint8], ends: NDArray[Any], goes_on: NDArray[np.bool_]) -> Column:
    """Return the numbers that end at these indexes."""
    # A digit has 32 times the value of the one before it in the same number.
    place = np.zeros(len(digits), np.uint8)
    further, most = goes_on, 0
    for most in range(MOST_DIGITS + 1):
        if not further.any():
            break
        if most == MOST_DIGITS:
            raise MappingsTrouble("a number has more than 32 bits")
        place[most + 1 :] += further[:-1]
        further = further[:-1] & goes_on[most + 1 :]
    is_long = most >= 6
    worth = np.left_shift((digits & 31).astype(np.uint64 if is_long else np.uint32), 5 * place)
    # A number is the difference of sums from one end to the next; overflows cancel out in the difference.
    sums = np.cumsum(worth, dtype=worth.dtype)[ends]
    sums[1:] -= sums[:-1].copy()
    if is_long and sums.max() >= 2**32:
        raise MappingsTrouble("a number has more than 32 bits")
    # The last bit is the sign.
    sign = (sums & 1).astype(np.int32)
    decoded: Column = (sums >> 1).astype(np.int32)
    decoded ^= -sign
    decoded += sign
    return decoded


def _segments(is_line_end: NDArray[np.bool_], before: Column, numbers: Column) -> Segments:
    """Return the segments that numbers make; ``before`` says how many of them stand before each separator."""
    first = np.concatenate((np.zeros(1, np.int32), before))
    length = np.concatenate((before, np.array([len(numbers)], np.int32))) - first
    line_of = np.concatenate((np.zeros(1, np.int32), np.cumsum(is_line_end, dtype=np.int32)))
    lines = int(line_of[-1]) + 1
    if not length.all():
        there = length > 0
        first, length, line_of = first[there], length[there], line_of[there]
    if len(length) and (length.max() > 5 or not _IS_LENGTH[length].all()):
        wrong = length[(length > 5) | ~_IS_LENGTH[np.minimum(length, 5)]][0]
        raise MappingsTrouble(f"a segment has {wrong} numbers; 1, 4 or 5 are expected")
    begins = np.searchsorted(line_of, np.arange(lines + 1, dtype=np.int32)).astype(np.int32)
    # Only the sums of a map with wrong numbers need more than 32 bits.
    kind: type = np.int32 if np.abs(numbers).sum(dtype=np.int64) < 2**31 else np.int64
    columns: NDArray[Any] = np.cumsum(numbers[first], dtype=kind)
    if lines > 1:
        # Columns are relative within a line only.
        columns -= np.concatenate((np.zeros(1, kind), columns))[begins[line_of]]
    has_source, has_name = length >= 4, length == 5
    columns_read = [columns, *(_summed(numbers, first, at, has_source, kind) for at in (1, 2, 3))]
    columns_read.append(_summed(numbers, first, 4, has_name, kind))
    order = _order(columns, line_of)
    arrays = [_bounded(one) if order is None else _bounded(one)[order] for one in columns_read]
    return Segments(arrays[0], arrays[1], arrays[2], arrays[3], arrays[4], begins)


def _summed(numbers: Column, first: Column, offset: int, has: NDArray[np.bool_], kind: type) -> NDArray[Any]:
    """Return the running sum of the numbers at an offset in their segments, -1 where a segment has none there."""
    if has.all():
        return np.cumsum(numbers[first + offset], dtype=kind)
    steps = numbers[np.minimum(first + offset, len(numbers) - 1)]
    steps *= has
    sums: NDArray[Any] = np.cumsum(steps, dtype=kind)
    sums[~has] = -1
    return sums


def _bounded(sums: NDArray[Any]) -> Column:
    found: Column = sums if sums.dtype == np.int32 else np.clip(sums, -1, 2**31 - 1).astype(np.int32)
    return found


def _order(columns: NDArray[Any], line_of: Column) -> NDArray[Any] | None:
    """Return the order by column within each line; None where they are in that order already."""
    if not np.any((columns[1:] < columns[:-1]) & (line_of[1:] == line_of[:-1])):
        return None
    return np.lexsort((columns, line_of))
