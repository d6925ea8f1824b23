"""What the lines of an access log say, as columns of numbers: the common format, and the W3C extended one."""

from __future__ import annotations

import re
from functools import partial
from typing import TYPE_CHECKING, Final

import numpy as np

from obitus.core.log_files.columns import Asked, Block, Columns, Places, like, method_ends
from obitus.core.log_files.requests import Hours

if TYPE_CHECKING:
    from obitus.core.log_files.w3c import FieldPlaces

_QUOTED: Final = Asked(re.compile(rb'[A-Z]{1,7} [^ ?"\n]*+'), quoted=True)
_BARE: Final = Asked(re.compile(rb"[A-Za-z]{1,7} /[^ ?\n]*+"), quoted=False)
_HOUR: Final = b"0:50:00 "
"""What stands from the second digit of an hour on."""


def common(block: Block, hours: Hours) -> Columns:
    """Read lines of the common and the combined format: what was asked stands between the first two quotes."""
    marks = np.flatnonzero((block.bytes == ord("\n")) | (block.bytes == ord('"')))
    kinds = block.bytes[marks]
    first = np.flatnonzero(kinds == ord("\n"))[:-1]
    quotes = kinds != ord("\n")
    quoted = quotes[first + 1] & quotes[first + 2]
    newlines = marks[first]
    odd = newlines[~quoted]
    if len(odd):
        newlines, first = newlines[quoted], first[quoted]
    opens, closes = marks[first + 1], marks[first + 2]
    # … [25/Nov/2026:10:00:00 +0000] "GET /tides HTTP/1.1" 200 …
    hour_at = opens - 16
    method_at = opens + 1
    path_at = method_ends(block, method_at) + 1
    answer = block.words[closes]
    size = block.bytes[closes + 6]
    fine = (
        (hour_at - newlines > 17)
        & like(block.words[hour_at + 1], _HOUR)
        & like(answer, b'" 000 __')
        & ((size - np.uint8(ord("0")) < 10) | (size == ord("-")))
        & (block.bytes[closes - 1] != ord("\\"))
        & (block.bytes[path_at - 1] == ord(" "))
    )
    return Columns(
        newlines,
        fine,
        hour=(block.words[hour_at - 13], block.words[hour_at - 5], block.words[opens - 8]),
        hour_at=hour_at,
        written=partial(_common_hour, block.text),
        hours=hours,
        asked=_QUOTED,
        method_at=method_at,
        path_at=path_at,
        status=answer >> np.uint64(16),
        odd=odd,
    )


def _common_hour(text: bytes, at: int) -> bytes:
    """Return the hour of a line whose digits stand at a place; what is no time where the line has none there."""
    if text[at - 13 : at - 12] != b"[" or text[at + 14 : at + 16] != b"] ":
        return b""
    return text[at - 12 : at + 2] + b":00:00" + text[at + 8 : at + 14]


def extended(block: Block, fields: int, places: FieldPlaces, date: str, hours: Hours) -> Columns | None:
    """Read lines of the extended format; None where the fields stand in no order that servers write them in.

    These begin with the date and the time, or with the time where lines bear no date; the path is behind the method, and
    neither it nor the status is last.
    """
    times = {(0, 1): 2, (None, 0): 1}.get((places.date, places.time))
    last = max(places.path, places.status) + 1 == fields
    if times is None or places.path != places.method + 1 or min(places.method, places.status) < times or last:
        return None
    marks = np.flatnonzero(block.bytes[: block.end] <= ord(" "))
    kinds = block.bytes[marks]
    empty = np.diff(marks, prepend=-1) == 1
    if b"\r" in block.text:
        # Before a newline it belongs to the line's end.
        newline = np.flatnonzero(empty & (kinds == ord("\n")))
        newline = newline[kinds[newline - 1] == ord("\r")]
        empty[newline] = empty[newline - 1]
        marks, kinds, empty = (np.delete(column, newline - 1) for column in (marks, kinds, empty))
    ends = np.flatnonzero(kinds == ord("\n"))
    first = ends[:-1]
    whole = np.diff(ends) == fields
    # Where a field is empty, or something else stands for a blank, it is not sure how many fields there are.
    unsure = np.flatnonzero(empty | ((kinds != ord("\n")) & (kinds != ord(" "))))
    whole[np.searchsorted(ends, unsure) - 1] = False
    newlines = marks[first]
    odd = newlines[~whole]
    newlines, first = newlines[whole], first[whole]
    hour_at = newlines + (12 if times == 2 else 1)
    before: Places = marks[first + places.status]
    answer = block.words[before]
    fine = like(block.words[hour_at + 1], _HOUR) & like(answer, b" 000 ___")
    hour = (
        (block.words[newlines + 1], block.words[newlines + 6])
        if times == 2
        else (block.words[hour_at] & np.uint64(0xFFFF),)
    )
    return Columns(
        newlines,
        fine,
        hour=hour,
        hour_at=hour_at,
        written=partial(_extended_hour, block.text, b"" if times == 2 else date.encode() + b" "),
        hours=hours,
        asked=_BARE,
        method_at=marks[first + places.method] + 1,
        path_at=marks[first + places.path] + 1,
        status=answer >> np.uint64(8),
        odd=odd,
    )


def _extended_hour(text: bytes, date: bytes, at: int) -> bytes:
    return (date or text[at - 11 : at]) + text[at : at + 2] + b":00:00"
