"""Numbers and times in words, the same on the command line and in documents."""

from __future__ import annotations

import re
from typing import Final

# Not any word: a message may begin with a name, which is written as it is.
_BEGINS_A_SENTENCE: Final = re.compile(r"(?:an?|it|no|nobody|only|th(?:at|e|ere|is))\b")


def count_of(number: int, noun: str, plural: str | None = None) -> str:
    """Write a count with its noun: ``1 failure``, ``1,204 failures``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def as_sentence(text: str) -> str:
    """Write an error's message, which begins with a small letter and has no full stop, as a sentence."""
    begun = text[:1].upper() + text[1:] if _BEGINS_A_SENTENCE.match(text) else text
    return begun if begun.endswith((".", "?", "!")) else f"{begun}."


def minute_of(time: str) -> str:
    """Write a time of the API to the minute, without its zone: ``2026-03-01 04:05``; '' for none."""
    return time[:16].replace("T", " ")


def ago(then_ms: int, now_ms: int) -> str:
    """Write how long ago a time was, in its largest whole unit; a time ahead of now is marked as such."""
    seconds = (now_ms - then_ms) // 1000
    if seconds < -1:
        return "in " + span(-seconds * 1000)
    if seconds < 2:
        return "just now"
    return span(seconds * 1000) + " ago"


def span(length_ms: int) -> str:
    """Write a length of time in its largest whole unit: ``45 s``, ``12 min``, ``5 h``, ``3 days``."""
    seconds = max(0, length_ms) // 1000
    if seconds < 60:
        return f"{seconds} s"
    if seconds < 3600:
        return f"{seconds // 60} min"
    if seconds < 2 * 86400:
        return f"{seconds // 3600} h"
    return f"{seconds // 86400} days"


def size(count: int) -> str:
    """Write a number of bytes: ``512 bytes``, ``1.4 MiB``."""
    if count < 1024:
        return count_of(count, "byte")
    amount = float(count)
    for unit in ("KiB", "MiB", "GiB"):
        amount /= 1024
        if amount < 1024 or unit == "GiB":
            break
    return f"{amount:.3g} {unit}" if amount < 100 else f"{amount:,.0f} {unit}"
