"""Comparing two fingerprints: surely the same fault, perhaps the same, or different. Symmetric in both. A
fingerprint is exact, so one fault has several: the line moves where no code is known, a helper is moved or
extracted, a message has varying words. Each rule here gives its reason in words.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from hashlib import blake2b
from typing import Final, Literal

from obitus.core.grouping.built import NEAR
from obitus.core.grouping.fault import SLIPS
from obitus.core.grouping.messages import likeness, words_of
from obitus.core.grouping.missing_values import is_produced
from obitus.core.grouping.names import last_name
from obitus.core.grouping.recipe import Traits, runtime_said

ALIKE_ON_ONE_LINE: Final = 0.34
ALIKE_IN_ONE_FUNCTION: Final = 0.75
ALIKE_CODE: Final = 0.8
WORDS_THAT_TELL: Final = 2
CODE_THAT_TELLS: Final = 12
"""Characters of code, without spaces, from which a line is unlikely to occur in two places by chance."""

_TOKENS = re.compile(r"\w+|[^\w\s]")
_ANY_CALL = re.compile(
    r"^(?:return|await|yield|result=|res=|response=|value=|ret=){0,4}(?:self\.)?\w++\(\*?+\w*+,?+\*{0,2}+\w*+\)$|^raise\w*+$"
)
# Pairs of types with which one wrong value makes one line fail.
_SIBLINGS: Final = (frozenset({"AttributeError", "TypeError"}), frozenset({"KeyError", "IndexError"}))


Kind = Literal["same", "perhaps", "apart"]


@dataclass(frozen=True, slots=True)
class Verdict:
    """The result of a comparison; ``strength`` (0 to 1) orders results of one kind."""

    kind: Kind
    strength: float
    reason: str


def keys_of(traits: Traits) -> tuple[int, ...]:
    """Return keys for looking up candidates, as 63-bit numbers: only fingerprints that share one can be the same fault."""
    keys = [_key("spot", traits.room, traits.function)]
    name = last_name(traits.function)
    if _code_tells(traits):
        keys.append(_key("code", traits.code))
    if _words_tell(traits):
        keys.append(_key("words", traits.type, traits.words))
    if traits.function:
        keys.append(_key("name", _family(traits.type), name))
    if is_produced(traits.missing):
        keys.append(_key("missing", traits.missing))
    if traits.build:
        keys.append(_key("built", traits.room, traits.function, traits.type, traits.words))
    if traits.raised_in:
        keys.append(_key("raised", traits.type, traits.raised_in))
    return tuple(keys)


def compare(one: Traits, other: Traits) -> Verdict:
    """Return whether two fingerprints are one fault."""
    verdict = _compare(one, other)
    if verdict.kind != "same" and one.missing == other.missing and is_produced(one.missing):
        return Verdict(
            "same", 0.6, f"{one.missing.lstrip('.')} had no value, which makes each line fail in its own way"
        )
    return verdict


def _compare(one: Traits, other: Traits) -> Verdict:
    same_spot = (one.room, one.function) == (other.room, other.function)
    if one.type != other.type:
        return _other_type(one, other, same_spot=same_spot)
    if not one.function or not other.function:
        return _words_only(one, other)
    if one.build and other.build:
        return _built(one, other, same_spot=same_spot)
    if one.helper or other.helper:
        return _helpers(one, other, same_spot=same_spot)
    return _one_function(one, other) if same_spot else _moved(one, other)


def _one_function(one: Traits, other: Traits) -> Verdict:
    alike = likeness(one.words, other.words)
    if one.code and other.code:
        if one.code == other.code:
            return _one_line_of_code(one, other, alike)
        return _other_code(one, other, alike)
    if one.code or other.code:
        # Only one of the two has its code: then the words decide.
        if alike >= ALIKE_IN_ONE_FUNCTION or not (words_of(one.words) or words_of(other.words)):
            return Verdict(
                "same", 0.7, "the same type in the same function with the same words; the code is known for one only"
            )
        return Verdict("perhaps", 0.4, "the same type in the same function, with other words")
    unmoved = _unmoved(one, other)
    if one.line is not None and one.line == other.line:
        few = min(len(words_of(one.words)), len(words_of(other.words))) < WORDS_THAT_TELL
        if alike >= ALIKE_ON_ONE_LINE or (few and not runtime_said(one)):
            return Verdict(
                "same",
                0.8 + alike / 10,
                "the same type on the same line of the same function; the words that differ are values",
            )
        return Verdict("perhaps", 0.5, "the same type on the same line of the same function, with other words")
    if one.words == other.words:
        if unmoved and not _words_tell(one):
            return Verdict(
                "perhaps", 0.5, "the same type and words in the same function, but on another line of the same build"
            )
        return Verdict("same", 0.9, "the same type and words in the same function; the line has moved")
    if alike >= ALIKE_IN_ONE_FUNCTION and not unmoved and not runtime_said(one):
        return Verdict("same", 0.6, "the same type in the same function, and nearly the same words")
    return Verdict("perhaps", 0.3 + alike / 10, "the same type in the same function, on another line with other words")


def _built(one: Traits, other: Traits, *, same_spot: bool) -> Verdict:
    """Compare where both were built and the source of neither is known."""
    alike = likeness(one.words, other.words)
    if not same_spot:
        same_words = one.words == other.words and _words_tell(one)
        return Verdict(
            "perhaps" if same_words else "apart", 0.3, "the same words in another function of the built code"
        )
    if one.build == other.build:
        if (one.line, one.column) == (other.line, other.column):
            few = min(len(words_of(one.words)), len(words_of(other.words))) < WORDS_THAT_TELL
            if alike >= ALIKE_ON_ONE_LINE or few:
                return Verdict("same", 0.95, "the same place of the same build; the words that differ are values")
            return Verdict("perhaps", 0.5, "the same place of the same build, with other words")
        near = one.line == other.line and abs((one.column or 0) - (other.column or 0)) <= NEAR
        if one.words == other.words and near:
            return Verdict("same", 0.9, "the same words at nearly the same place of the same build: engines count columns in their own ways")  # fmt: skip
        return Verdict("perhaps" if one.words == other.words else "apart", 0.4, "another place of the same build")
    shape = _shape_alike(one, other)
    if one.words == other.words and words_of(one.words):
        return Verdict(
            "same", 0.5 + 0.3 * shape, "the same type and words in the same file and function of another build"
        )
    if alike >= ALIKE_IN_ONE_FUNCTION and not (runtime_said(one) or runtime_said(other)):
        return Verdict("same", 0.4 + 0.3 * shape, "the same type and nearly the same words in the same file and function of another build")  # fmt: skip
    return Verdict("perhaps", 0.3 + alike / 10, "the same type in the same file and function of another build, with other words")  # fmt: skip


def _shape_alike(one: Traits, other: Traits) -> float:
    """Return how alike the nearest callers are, from 0 to 1: their number, and the names that no build changes."""
    mine, others = [spot for spot, _ in one.callers], [spot for spot, _ in other.callers]
    if not mine and not others:
        return 1.0
    same = sum(a == b for a, b in zip(mine, others, strict=False))
    return same / max(len(mine), len(others))


def _one_line_of_code(one: Traits, other: Traits, alike: float) -> Verdict:
    if one.raised_in != other.raised_in:
        if alike >= ALIKE_IN_ONE_FUNCTION:
            return Verdict("same", 0.8, "the same line of code and the same words; only the library's inside differs")
        return Verdict(
            "perhaps", 0.5, "the same line of code, but the library raised elsewhere and said something else"
        )
    if one.message_counts and other.message_counts and not runtime_said(one):
        if alike >= 0.5:
            return Verdict("same", 0.8, "the same line of code; the words that differ are values")
        return Verdict("perhaps", 0.5, "the same line of code, raising with other words")
    if one.message_counts != other.message_counts or one.in_library != other.in_library:
        return Verdict("same", 0.8, "the same type on the same line of code")
    return Verdict("perhaps", 0.5, "the same line of code, with other names in the message")


def _other_code(one: Traits, other: Traits, alike: float) -> Verdict:
    if one.words == other.words and one.engine and other.engine and one.engine != other.engine:
        return Verdict(
            "same",
            0.7,
            "the same fault in the same function, reported by two browsers: each names another part of the expression",
        )
    close = _code_alike(one.code, other.code)
    if one.type in SLIPS and one.words == other.words:
        return Verdict("same", 0.8, "the same name is missing in the same function")
    if close >= ALIKE_CODE and one.words == other.words and one.code.startswith("raise") and _words_tell(one):
        return Verdict("same", 0.7, "the same type and words in the same function, on a line of code that was edited")
    if alike >= ALIKE_IN_ONE_FUNCTION or close >= ALIKE_CODE:
        return Verdict("perhaps", 0.3 + close / 10, "the same type in the same function, on another line of code")
    return Verdict("apart", 0.0, "another line of code in the same function")


def _moved(one: Traits, other: Traits) -> Verdict:
    same_code = bool(one.code) and one.code == other.code
    same_name = last_name(one.function) == last_name(other.function)
    words_alike = likeness(one.words, other.words) >= ALIKE_IN_ONE_FUNCTION
    called = _nearest(one) & _nearest(other)
    if same_code and _of_two_classes(one, other):
        return Verdict("perhaps", 0.5, f"the same line of code in {last_name(one.function)} of another class")
    if same_code and _code_tells(one):
        if same_name and (words_alike or called) and one.raised_in == other.raised_in:
            return Verdict("same", 0.7, f"the same line of code in {last_name(one.function)}, which has moved")
        if _calls(one, other):
            return Verdict("same", 0.7, "the same line of code, moved into a function that the other one calls")
        if called and words_alike:
            return Verdict(
                "same", 0.6, "the same line of code with the same callers; the function around it has another name"
            )
        return Verdict("perhaps", 0.5, "the same line of code in another function")
    if one.code and other.code:
        if same_name and words_alike and called and _words_tell(one):
            return Verdict("perhaps", 0.3, "a function of the same name with the same callers and words")
        return Verdict("apart", 0.0, "other code in another function")
    if one.words == other.words and _words_tell(one):
        if same_name and called:
            return Verdict(
                "same",
                0.6,
                "the same words in a function of the same name and with the same callers, which has moved",
            )
        if _calls(one, other):
            return Verdict("perhaps", 0.5, "the same words in a function that the other one calls")
        if same_name:
            return Verdict("perhaps", 0.4, "the same words in a function of the same name")
    return Verdict("apart", 0.0, "another function")


def _helpers(one: Traits, other: Traits, *, same_spot: bool) -> Verdict:
    """Compare where a helper raises errors found by its callers: the callers have to be the same."""
    mine, others = one.callers[: one.helper], other.callers[: other.helper]
    alike = likeness(one.words, other.words)
    moved = bool(one.caller_code) and one.caller_code == other.caller_code and _named_alike(one, other)
    if not moved and (not mine or [spot for spot, _ in mine] != [spot for spot, _ in others]):
        return Verdict(
            "perhaps"
            if same_spot and (alike >= ALIKE_IN_ONE_FUNCTION or (one.code and one.code == other.code))
            else "apart",
            0.3,
            "the same helper, called from elsewhere",
        )
    if same_spot and one.code and other.code and one.code != other.code:
        return Verdict("perhaps", 0.4, "the same helper, failing on another line of it")
    if one.caller_code and other.caller_code:
        if one.caller_code == other.caller_code and (alike >= 0.5 or not words_of(one.words)):
            return Verdict("same", 0.8, "the same call of a helper; the words that differ are values")
        return Verdict("perhaps", 0.4, "the same helper called from the same function, on another line of code")
    lines = [line for _, line in mine] == [line for _, line in others]
    if alike >= (0.5 if lines else ALIKE_IN_ONE_FUNCTION):
        return Verdict("same", 0.7, "the same helper, called from the same function, with the same words")
    return Verdict("perhaps", 0.4, "the same helper, called from the same function, with other words")


def _other_type(one: Traits, other: Traits, *, same_spot: bool) -> Verdict:
    if not same_spot or not one.function:
        return Verdict("apart", 0.0, "another type, elsewhere")
    if one.code and one.code == other.code and not one.raised_in and not other.raised_in:
        if any(one.type in pair and other.type in pair for pair in _SIBLINGS):
            return Verdict(
                "same", 0.6, f"the same line of code; {one.type} and {other.type} there are two ends of one wrong value"
            )
        return Verdict("perhaps", 0.4, "the same line of code, with another type of exception")
    return Verdict("apart", 0.0, "another type on another line of the same function")


def _words_only(one: Traits, other: Traits) -> Verdict:
    if one.function or other.function:
        return Verdict("apart", 0.0, "only one of them says where it failed")
    alike = likeness(one.words, other.words)
    if alike >= 0.8 and _words_tell(one) and _words_tell(other):
        return Verdict("same", alike / 2, "the same type and nearly the same words; there are no frames")
    return Verdict(
        "perhaps" if alike >= 0.6 else "apart", alike / 2, "the same type with other words; there are no frames"
    )


def _unmoved(one: Traits, other: Traits) -> bool:
    """Whether a frame further down in the same file shows that no line was inserted above: then another line is another place."""
    if one.line is None or other.line is None:
        return False
    lowest = max(one.line, other.line)
    lines = {
        spot: line for spot, line in one.callers if line is not None and line >= lowest and _room(spot) == one.room
    }
    return any(lines.get(spot) == line for spot, line in other.callers if spot in lines)


def _room(spot: str) -> str:
    return spot.rpartition(".")[0]


def _nearest(traits: Traits) -> set[str]:
    return {last_name(spot) for spot, _ in traits.callers[:2]}


def _calls(one: Traits, other: Traits) -> bool:
    """Whether one of the two functions calls the other, as after extracting a helper."""
    return any(spot == other.spot for spot, _ in one.callers[:2]) or any(
        spot == one.spot for spot, _ in other.callers[:2]
    )


def _code_alike(one: str, other: str) -> float:
    mine, others = _TOKENS.findall(one), _TOKENS.findall(other)
    if not mine or not others:
        return 0.0
    shared = sum(min(mine.count(token), others.count(token)) for token in set(mine))
    return 2 * shared / (len(mine) + len(others))


def _code_tells(traits: Traits) -> bool:
    return len(traits.code) >= CODE_THAT_TELLS and not _ANY_CALL.match(traits.code)


def _words_tell(traits: Traits) -> bool:
    return len(words_of(traits.words)) >= WORDS_THAT_TELL and not runtime_said(traits)


def _of_two_classes(one: Traits, other: Traits) -> bool:
    """Whether the functions are a method that all classes have, such as the constructor, in two classes of one module."""
    name = last_name(one.function)
    return (
        name.startswith("__")
        and name.endswith("__")
        and name == last_name(other.function)
        and one.room == other.room
        and one.function != other.function
    )


def _named_alike(one: Traits, other: Traits) -> bool:
    """Whether the callers that count have the same names, as where all of them have moved to another module. Two classes
    often have methods of one name, and two functions inner ones: these have not moved.
    """
    if one.caller_names and other.caller_names:
        return one.caller_names == other.caller_names
    # What an earlier version stored has no names.
    mine, others = one.callers[: one.helper], other.callers[: other.helper]
    return [last_name(spot) for spot, _ in mine] == [last_name(spot) for spot, _ in others]


def _family(kind: str) -> str:
    return next((min(pair) for pair in _SIBLINGS if kind in pair), kind)


def _key(*parts: str) -> int:
    hashed = blake2b("\0".join(parts).encode("utf-8", "surrogatepass"), digest_size=8)
    return int.from_bytes(hashed.digest(), "big") >> 1
