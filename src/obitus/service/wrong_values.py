"""What is wrong with a value that was sent, in words for whoever sent it: what is expected there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

from obitus.core.wording import count_of
from obitus.service.problems import Problem

PATTERNS: Final = {
    "^[a-z][a-z0-9-]*$": "small letters, digits and dashes are expected, and a letter at the beginning",
    "^[a-z0-9][a-z0-9-]{0,59}$": "small letters, digits and dashes are expected, at most 60, and no dash at the beginning",
    "^[0-9a-f]{7,64}$": "the hash of a commit is expected: 7 to 64 digits of 0-9 and a-f",
    "^[0-9a-f]{16}$": "a span id is expected: 16 digits of 0-9 and a-f",
    "^[0-9a-f]{32}$": "a trace id is expected: 32 digits of 0-9 and a-f",
    "^[0-9a-f]{64}$": "an SHA-256 is expected: 64 digits of 0-9 and a-f",
    "^([0-9a-f]{64})?$": "an SHA-256 is expected, or nothing: 64 digits of 0-9 and a-f",
}
"""What each pattern of a field asks for."""
_KINDS: Final = {
    "bool": "true or false is expected",
    "bytes": "a text is expected",
    "date": "a day is expected, such as 2026-12-01",
    "datetime": "a time is expected, such as 2026-12-01T08:30:00Z",
    "dict": "an object is expected",
    "float": "a number is expected",
    "int": "a whole number is expected",
    "list": "a list is expected",
    "mapping": "an object is expected",
    "model": "an object is expected",
    "string": "a text is expected",
    "tuple": "a list is expected",
    "uuid": "an id is expected, such as 01890b0e-5c2a-7c3a-bc46-120ebafb368d",
}
"""What a value of each kind is called; the validator's types of errors begin with these."""


def wrong_field(place: Sequence[int | str], complaint: Mapping[str, Any]) -> Problem:
    """Return the problem of a field at a place of a request."""
    field = ".".join(map(str, place))
    return Problem("bad-field", f"{field}: {what_is_expected(complaint)}.", field=field)


def what_is_expected(complaint: Mapping[str, Any]) -> str:
    """Return what is wrong by one of a validator's complaints (``pydantic_core.ErrorDetails``), without the full stop."""
    kind, context = complaint["type"], complaint.get("ctx", {})
    if kind == "missing":
        return "is missing"
    if kind == "extra_forbidden":
        return "is not a known field"
    if kind == "string_pattern_mismatch":
        return PATTERNS.get(context["pattern"], f"a text like {context['pattern']} is expected")
    if kind in ("literal_error", "enum"):
        return f"{context['expected'].replace(chr(39), '')} is expected"
    if (bound := _bound(kind, context)) is not None:
        return bound
    if kind in ("value_error", "assertion_error"):
        # Our own validators' words, after the framework's.
        return str(complaint["msg"]).partition(", ")[2]
    return _KINDS.get(kind.partition("_")[0], str(complaint["msg"]))


def _bound(kind: str, context: Mapping[str, Any]) -> str | None:
    match kind:
        case "string_too_short" | "too_short":
            least = context["min_length"]
            return "is empty" if least == 1 else f"has fewer than {_length(kind, least)}"
        case "string_too_long" | "too_long":
            return f"has more than {_length(kind, context['max_length'])}"
        case "greater_than_equal":
            return f"at least {context['ge']:,} is expected"
        case "greater_than":
            return f"more than {context['gt']:,} is expected"
        case "less_than_equal":
            return f"at most {context['le']:,} is allowed"
        case "less_than":
            return f"less than {context['lt']:,} is expected"
        case "finite_number":
            return "a finite number is expected"
    return None


def _length(kind: str, length: int) -> str:
    return count_of(length, "character" if kind.startswith("string") else "item")
