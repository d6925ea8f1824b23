"""From a text to a question's tree."""

from __future__ import annotations

import re
from functools import cache
from typing import Any, Final

from lark import Lark, Token, Transformer, Tree, UnexpectedInput, v_args
from lark.exceptions import VisitError

from obitus.core.asking.tree import All, AnyOf, Compare, Exists, Node, Not, Op, Words, leaves_of
from obitus.core.asking.values import ValueTrouble, wanted_number
from obitus.core.asking.writing import FIELD_NAME
from obitus.core.remembering import remembered
from obitus.core.severity import SEVERITIES
from obitus.core.terms import words_of

MOST_CHARACTERS: Final = 2000
MOST_DEEP: Final = 30
MOST_TERMS: Final = 100
# A name is a field where a comparison or ``exists`` follows; anything else is a word.
GRAMMAR: Final = r"""
?start: any
?any: all (_OR all)*
?all: one (_AND? one)*
?one: _NOT one -> negated
    | _OPEN any _CLOSE
    | FIELD OP (VALUE | QUOTED | BEGINNING) -> compared
    | FIELD _EXISTS -> exists
    | (WORD | QUOTED | BEGINNING) -> words
_OPEN: "("
_CLOSE: ")"
_OR.5: /(?:or|OR)(?![^\s()"])/
_AND.5: /(?:and|AND)(?![^\s()"])/
_NOT.5: /(?:not|NOT)(?![^\s()"])/
_EXISTS.6: /exists(?![^\s()"])/
OP.6: /!=|>=|<=|=|>|<|~/
FIELD.7: /(?!(?:or|OR|and|AND|not|NOT)\s+exists(?![^\s()"]))(?:FIELD_NAME|"(?:[^"\\]|\\.)*")(?=\s*(?:!=|>=|<=|=|>|<|~)|\s+exists(?![^\s()"]))/
BEGINNING.4: /"(?:[^"\\]|\\.)*"\*(?![^\s()"])/
QUOTED.3: /"(?:[^"\\]|\\.)*"/
VALUE: /[^\s()"=<>~][^\s()"]*/
WORD: /(?!(?:or|OR|and|AND|not|NOT)(?![^\s()"]))[^\s()"=<>~][^\s()"]*/
%ignore /\s+/
""".replace("FIELD_NAME", FIELD_NAME)
_EXPECTED: Final = {
    "VALUE": 'a value is expected, such as KeyError, 250ms or "two words"; "" stands for what is empty, and a value that begins with a bracket or a comparison is quoted',
    "OP": "a comparison is expected: =, !=, >, >=, <, <= or ~",
    "_CLOSE": "a closing bracket is expected",
    "_OPEN": "a term is expected, such as severity>=WARN or type=KeyError; the words or, and, not stand between or before terms, or in quotes",
}
_PIECE = re.compile(r'"(?:[^"\\]|\\.)*+"|[()]|[^\s()"]++|"')
EXAMPLE: Final = 'user.id=p-102 entry_point~boardings "vehicle height"'


class QuestionTrouble(ValueError):
    """The text is no question; ``position`` (from 1) is the place of the error, and the message says what was expected there."""

    def __init__(self, said: str, position: int) -> None:
        super().__init__(f"At character {position}: {said}.")
        self.position = position


def read(text: str, now_ms: int) -> Node:
    """Parse a question; raises QuestionTrouble. Relative times count from ``now_ms``."""
    if len(text) > MOST_CHARACTERS:
        raise QuestionTrouble(f"a question has up to {MOST_CHARACTERS:,} characters", MOST_CHARACTERS + 1)
    if not text.strip():
        raise QuestionTrouble(f"a term is expected. For example: {EXAMPLE}", 1)
    _check_depth(text)
    try:
        node: Node = _Tree(now_ms).transform(_parsed(text))
    except UnexpectedInput as error:
        raise _said(error, text) from None
    except VisitError as error:
        if isinstance(error.orig_exc, QuestionTrouble):
            raise error.orig_exc from None
        raise
    if sum(1 for _ in leaves_of(node)) > MOST_TERMS:
        raise QuestionTrouble(f"a question has up to {MOST_TERMS} terms", 1)
    return node


@cache
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", lexer="contextual", maybe_placeholders=False)


@remembered(500)
def _parsed(text: str) -> Tree[Token]:
    """Return the parser's tree of a question, cached: a page asks the same one several times, and followers each second."""
    return _parser().parse(text)


def _check_depth(text: str) -> None:
    """Refuse deeply nested texts before they are parsed."""
    brackets = nots = 0
    for match in _PIECE.finditer(text):
        brackets += {"(": 1, ")": -1}.get(match[0], 0)
        nots = nots + 1 if match[0] in ("not", "NOT") else 0
        if brackets + nots > MOST_DEEP:
            raise QuestionTrouble(f"brackets and `not` may be nested {MOST_DEEP} deep", match.start() + 1)


def _said(error: UnexpectedInput, text: str) -> QuestionTrouble:
    """Return a parser's complaint in words."""
    position = error.pos_in_stream if error.pos_in_stream is not None and error.pos_in_stream >= 0 else len(text)
    expected: set[str] = set(
        getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", None) or ()
    )
    token = getattr(error, "token", None)
    if token is not None and token.type == "$END":
        position = len(text.rstrip())
        if "_CLOSE" in expected and ("_OR" in expected or "_AND" in expected):
            return QuestionTrouble("a closing bracket is expected: one was opened and not closed", position + 1)
    if text[position : position + 1] == '"':
        return QuestionTrouble("this quote is not closed", position + 1)
    if text[position : position + 1] == ")":
        if "_OPEN" in expected:
            return QuestionTrouble("a term is expected before this bracket", position + 1)
        return QuestionTrouble("this bracket was not opened", position + 1)
    wanted = next((words for name, words in _EXPECTED.items() if name in expected), _EXPECTED["_OPEN"])
    return QuestionTrouble(wanted, position + 1)


@v_args(inline=True)
class _Tree(Transformer[Token, Node]):
    def __init__(self, now_ms: int) -> None:
        super().__init__()
        self._now_ms = now_ms

    def any(self, *parts: Node) -> Node:
        return AnyOf(parts)

    def all(self, *parts: Node) -> Node:
        return All(parts)

    def negated(self, inner: Node) -> Node:
        return Not(inner)

    def exists(self, field: Token) -> Node:
        return Exists(_unquoted(field))

    def words(self, token: Token) -> Node:
        text = _unquoted(token)
        is_word = token.type == "WORD" and text.endswith("*") and not text.endswith("**")
        words = tuple(words_of(text))
        if not words:
            raise QuestionTrouble(
                'a word needs letters or digits; for other characters write message~"…"', (token.start_pos or 0) + 1
            )
        return Words(words, open_end=is_word or token.type == "BEGINNING")

    def compared(self, field: Token, op: Token, value: Token) -> Node:
        name, text, sign = _unquoted(field), _unquoted(value), str(op)
        operator: Op = sign  # type: ignore[assignment]
        at = (value.start_pos or 0) + 1
        if value.type == "VALUE" and operator == "=" and text.endswith("*") and len(text) > 1:
            return Compare(name, "^", text[:-1])
        if value.type == "BEGINNING":
            if operator != "=":
                raise QuestionTrouble(f"what begins so is asked for with =, what does not with `not {name}=…*`", at)
            return Compare(name, "^", text)
        if name == "severity" and operator != "~":
            return self._severity(operator, text, at)
        try:
            number = wanted_number(name, text, self._now_ms) if operator != "~" else None
        except ValueTrouble as trouble:
            raise QuestionTrouble(str(trouble), at) from None
        if name == "duration" and operator != "~" and number is None and text:
            raise QuestionTrouble(
                "a duration is expected, such as 250ms, 2.5s or 3min; a plain number is milliseconds", at
            )
        return Compare(name, operator, text, number)

    def _severity(self, op: Any, text: str, at: int) -> Node:
        if text.upper() not in SEVERITIES:
            if op in ("=", "!="):
                return Compare("severity", op, text)
            raise QuestionTrouble(f"a severity is expected. They are, in order: {', '.join(SEVERITIES)}", at)
        return Compare("severity", op, text.upper(), float(SEVERITIES.index(text.upper())))


def _unquoted(token: Token) -> str:
    text = str(token)
    if token.type == "BEGINNING":
        text = text[:-1]
    return (
        re.sub(r"\\(.)", r"\1", text[1:-1], flags=re.DOTALL) if len(text) > 1 and text[0] == text[-1] == '"' else text
    )
