"""Parsing an expression: bounded in length, in parts and in depth; errors have a position."""

from __future__ import annotations

import re
from typing import Final, NoReturn

from obitus.core.tracepoints.expressions import (
    STRENGTH,
    Attribute,
    Both,
    Call,
    Comparison,
    Expression,
    Item,
    Literal,
    Minus,
    Name,
    Not,
    Plain,
    Several,
    Sum,
)

MOST_CHARACTERS: Final = 500
MOST_PARTS: Final = 100
MOST_DEEP: Final = 20
FUNCTIONS: Final = {
    "len": (1, 1),
    "abs": (1, 1),
    "round": (1, 2),
    "min": (2, 10),
    "max": (2, 10),
    "lower": (1, 1),
    "upper": (1, 1),
    "strip": (1, 1),
    "begins": (2, 2),
    "ends": (2, 2),
    "text": (1, 1),
    "type": (1, 1),
}
"""The functions, with their smallest and largest number of arguments."""
_CONSTANTS: Final[dict[str, Plain]] = {"True": True, "False": False, "None": None}
_WORDS: Final = frozenset({"and", "or", "not", "in", "is"})
_OTHER_WORDS: Final = frozenset(
    [
        "as",
        "assert",
        "async",
        "await",
        "break",
        "class",
        "continue",
        "def",
        "del",
        "elif",
        "else",
        "except",
        "finally",
        "for",
        "from",
        "global",
        "if",
        "import",
        "lambda",
        "nonlocal",
        "pass",
        "raise",
        "return",
        "try",
        "while",
        "with",
        "yield",
    ]
)
_TOKEN: Final = re.compile(
    r"(?P<blank>[ \t\r\n]++)"
    r"|(?P<number>[0-9]++(?:\.[0-9]++)?(?:[eE][+-]?[0-9]++)?)"
    r"|(?P<name>[^\W0-9]\w*+)"
    r"|(?P<text>\"(?:[^\"\\]|\\.)*+\"|'(?:[^'\\]|\\.)*+')"
    r"|(?P<symbol>//|<=|>=|==|!=|[-+*/%<>().,\[\]])",
    re.DOTALL,
)
_ESCAPES: Final = {"n": "\n", "t": "\t", "r": "\r", "\\": "\\", '"': '"', "'": "'"}


class ExpressionTrouble(ValueError):
    """The text is no expression; ``position`` (from 1) is the place of the error, and the message says what was expected there."""

    def __init__(self, said: str, position: int) -> None:
        super().__init__(f"At character {position}: {said}.")
        self.position = position


def read(text: str) -> Expression:
    """Parse a text as an expression; raises ExpressionTrouble."""
    if len(text) > MOST_CHARACTERS:
        raise ExpressionTrouble(f"an expression has up to {MOST_CHARACTERS} characters", MOST_CHARACTERS + 1)
    return _Reading(text).whole()


class _Reading:
    def __init__(self, text: str) -> None:
        self._tokens = _tokens(text)
        self._at = 0
        self._deep = 0
        self._parts = 0

    def whole(self) -> Expression:
        """Parse the whole text."""
        found = self._either()
        if self._kind != "end":
            self._expected("nothing more, or one of `and or < <= > >= == != in is + - * / // % . [`")
        return found

    # The current token.

    @property
    def _kind(self) -> str:
        return self._tokens[self._at][0]

    @property
    def _text(self) -> str:
        return self._tokens[self._at][1]

    def _takes(self, *texts: str) -> bool:
        """Consume the current token if it is one of these; return whether it was."""
        if self._kind in ("symbol", "word") and self._text in texts:
            self._at += 1
            return True
        return False

    def _expected(self, what: str) -> NoReturn:
        _, text, position = self._tokens[self._at]
        found = f"`{text[:30]}`" if text else "the end"
        raise ExpressionTrouble(f"{what} is expected, not {found}", position)

    def _made(self, expression: Expression) -> Expression:
        self._parts += 1
        if self._parts > MOST_PARTS:
            raise ExpressionTrouble(f"an expression has up to {MOST_PARTS} parts", self._tokens[self._at][2])
        return expression

    # From the lowest precedence to the highest.

    def _either(self) -> Expression:
        self._deep += 1
        if self._deep > MOST_DEEP:
            raise ExpressionTrouble(f"brackets go up to {MOST_DEEP} deep", self._tokens[self._at][2])
        found = self._joined("or", lambda: self._joined("and", self._denied))
        self._deep -= 1
        return found

    def _joined(self, operator: str, part: object) -> Expression:
        assert callable(part)
        parts: list[Expression] = [part()]
        while self._takes(operator):
            parts.append(part())
        return parts[0] if len(parts) == 1 else self._made(Both(operator, tuple(parts)))

    def _denied(self) -> Expression:
        denials = 0
        while self._takes("not"):
            denials += 1
        expression = self._compared()
        for _ in range(denials):
            expression = self._made(Not(expression))
        return expression

    def _compared(self) -> Expression:
        first = self._summed(STRENGTH["+"])
        others: list[tuple[str, Expression]] = []
        while (operator := self._comparing()) is not None:
            others.append((operator, self._summed(STRENGTH["+"])))
        return self._made(Comparison(first, tuple(others))) if others else first

    def _comparing(self) -> str | None:
        for operator in ("<", "<=", ">", ">=", "==", "!=", "in"):
            if self._takes(operator):
                return operator
        if self._takes("is"):
            return "is not" if self._takes("not") else "is"
        if self._takes("not"):
            if not self._takes("in"):
                self._expected("`in`")
            return "not in"
        return None

    def _summed(self, strength: int) -> Expression:
        below = self._signed if strength > STRENGTH["+"] else lambda: self._summed(strength + 1)
        left = below()
        operators = [operator for operator, own in STRENGTH.items() if own == strength]
        while self._kind == "symbol" and (operator := self._text) in operators:
            self._at += 1
            left = self._made(Sum(operator, left, below()))
        return left

    def _signed(self) -> Expression:
        minuses = 0
        while self._takes("-"):
            minuses += 1
        expression = self._reached()
        for _ in range(minuses):
            expression = self._made(Minus(expression))
        return expression

    def _reached(self) -> Expression:
        expression = self._smallest()
        while True:
            if self._takes("."):
                expression = self._made(Attribute(expression, self._name("the name of an attribute")))
            elif self._takes("["):
                key = self._either()
                self._closes("]")
                expression = self._made(Item(expression, key))
            elif self._kind == "symbol" and self._text == "(":
                raise ExpressionTrouble(
                    f"nothing of the app is called; the functions here are {', '.join(FUNCTIONS)}",
                    self._tokens[self._at][2],
                )
            else:
                return expression

    def _smallest(self) -> Expression:
        kind, text, position = self._tokens[self._at]
        if kind == "number":
            self._at += 1
            return self._made(Literal(_number(text, position)))
        if kind == "text":
            self._at += 1
            return self._made(Literal(_unquoted(text, position)))
        if self._takes("("):
            inner = self._either()
            self._closes(")")
            return inner
        if self._takes("["):
            return self._made(Several(self._parts_up_to("]")))
        name = self._name("a name, a number, a text or a bracket")
        if name in _CONSTANTS:
            return self._made(Literal(_CONSTANTS[name]))
        if name in FUNCTIONS and self._takes("("):
            arguments = self._parts_up_to(")")
            least, most = FUNCTIONS[name]
            if not least <= len(arguments) <= most:
                number = str(least) if least == most else f"{least} to {most}"
                raise ExpressionTrouble(f"{name} takes {number} values, not {len(arguments)}", position)
            return self._made(Call(name, arguments))
        return self._made(Name(name))

    def _parts_up_to(self, end: str) -> tuple[Expression, ...]:
        parts: list[Expression] = []
        while not self._takes(end):
            if parts and not self._takes(","):
                self._expected(f"a comma or `{end}`")
            parts.append(self._either())
        return tuple(parts)

    def _closes(self, end: str) -> None:
        if not self._takes(end):
            self._expected(f"`{end}`")

    def _name(self, what: str) -> str:
        kind, text, position = self._tokens[self._at]
        if kind != "name":
            self._expected(what)
        if text in _OTHER_WORDS:
            raise ExpressionTrouble(f"`{text}` is no part of this language", position)
        if text.startswith("__"):
            raise ExpressionTrouble(
                "names that begin with two underscores are Python's own, and not looked at", position
            )
        self._at += 1
        return text


def _tokens(text: str) -> list[tuple[str, str, int]]:
    """Return the tokens of a text with their places, from 1, and the end."""
    tokens: list[tuple[str, str, int]] = []
    at = 0
    while at < len(text):
        token = _TOKEN.match(text, at)
        if token is None:
            trouble = "this text has no end" if text[at] in "\"'" else f"`{text[at]}` is no part of this language"
            raise ExpressionTrouble(trouble, at + 1)
        kind = token.lastgroup or ""
        if kind != "blank":
            word = token.group()
            tokens.append(("word" if word in _WORDS else kind, word, at + 1))
        at = token.end()
    return [*tokens, ("end", "", len(text) + 1)]


def _number(text: str, position: int) -> int | float:
    if text.isdecimal():
        if len(text) > 20:
            raise ExpressionTrouble("a number has up to 20 digits", position)
        return int(text)
    value = float(text)
    if value == float("inf"):
        raise ExpressionTrouble("this number is too large", position)
    return value


def _unquoted(text: str, position: int) -> str:
    def meant(match: re.Match[str]) -> str:
        character = match.group(1)
        if character not in _ESCAPES:
            raise ExpressionTrouble(
                f"`\\{character}` means nothing; a backslash is written `\\\\`", position + 1 + match.start()
            )
        return _ESCAPES[character]

    return re.sub(r"\\(.)", meant, text[1:-1], flags=re.DOTALL)
