"""Messages with values: ``fare {base} for {passengers}``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.tracepoints.expressions import Expression, written
from obitus.core.tracepoints.reading import ExpressionTrouble, read

MOST_CHARACTERS: Final = 1_000
MOST_VALUES: Final = 20


@dataclass(frozen=True, slots=True)
class Message:
    """A text with places for values: one part of text more than expressions."""

    texts: tuple[str, ...]
    expressions: tuple[Expression, ...]

    @property
    def template(self) -> str:
        """The message as it was written, the same for all values."""
        parts = [self.texts[0].replace("{", "{{").replace("}", "}}")]
        for expression, text in zip(self.expressions, self.texts[1:], strict=True):
            parts += ["{", written(expression), "}", text.replace("{", "{{").replace("}", "}}")]
        return "".join(parts)

    def said(self, values: list[Any], show: Callable[[Any], str]) -> str:
        """Return the message with values, converted by ``show``."""
        shown = (show(value) + text for value, text in zip(values, self.texts[1:], strict=True))
        return self.texts[0] + "".join(shown)


def read_message(text: str) -> Message:
    """Parse a text as a message; raises ExpressionTrouble. Literal brackets are doubled."""
    if len(text) > MOST_CHARACTERS:
        raise ExpressionTrouble(f"a message has up to {MOST_CHARACTERS:,} characters", MOST_CHARACTERS + 1)
    texts, expressions, at = [""], list[Expression](), 0
    while at < len(text):
        character = text[at]
        if character in "{}" and text[at + 1 : at + 2] == character:
            texts[-1] += character
            at += 2
        elif character == "}":
            raise ExpressionTrouble("`}` ends nothing; a literal one is written `}}`", at + 1)
        elif character == "{":
            end = _end_of(text, at + 1)
            try:
                expressions.append(read(text[at + 1 : end]))
            except ExpressionTrouble as trouble:
                raise ExpressionTrouble(
                    str(trouble).partition(": ")[2].removesuffix("."), at + 1 + trouble.position
                ) from None
            if len(expressions) > MOST_VALUES:
                raise ExpressionTrouble(f"a message has up to {MOST_VALUES} values", at + 1)
            texts.append("")
            at = end + 1
        else:
            texts[-1] += character
            at += 1
    return Message(tuple(texts), tuple(expressions))


def _end_of(text: str, begin: int) -> int:
    """Return where the bracket closes that opened before ``begin``, outside of texts in quotes."""
    at, quote = begin, ""
    while at < len(text):
        character = text[at]
        if quote:
            if character == "\\":
                at += 1
            elif character == quote:
                quote = ""
        elif character in "\"'":
            quote = character
        elif character == "}":
            return at
        at += 1
    raise ExpressionTrouble("`{` is not closed; a literal one is written `{{`", begin)
