"""Expressions of tracepoints: what is read, what is refused and where, and that what is written is read as the same."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.tracepoints import ExpressionTrouble, names_of, read, read_message, written
from obitus.core.tracepoints.expressions import (
    COMPARING,
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
    Several,
    Sum,
)
from obitus.core.tracepoints.reading import FUNCTIONS, MOST_CHARACTERS, MOST_PARTS
from tests.examples import many

NAMES = st.sampled_from(["passengers", "sailing", "x", "_kept", "höhe", "lengths", "notes", "order"])
LITERALS = st.builds(
    Literal,
    st.none() | st.booleans() | st.integers(0, 10**19) | st.floats(0, 1e300, allow_subnormal=False) | st.text(max_size=12),
)  # fmt: skip


def _calls(inner: st.SearchStrategy[Expression]) -> st.SearchStrategy[Expression]:
    return st.sampled_from(sorted(FUNCTIONS)).flatmap(
        lambda name: st.builds(
            Call,
            st.just(name),
            st.lists(inner, min_size=FUNCTIONS[name][0], max_size=min(3, FUNCTIONS[name][1])).map(tuple),
        )
    )


def _made(inner: st.SearchStrategy[Expression]) -> st.SearchStrategy[Expression]:
    several = st.lists(inner, min_size=2, max_size=3).map(tuple)
    return (
        st.builds(Attribute, inner, NAMES) | st.builds(Item, inner, inner) | _calls(inner)
        | st.builds(Several, st.lists(inner, max_size=3).map(tuple)) | st.builds(Minus, inner) | st.builds(Not, inner)
        | st.builds(Sum, st.sampled_from(["+", "-", "*", "/", "//", "%"]), inner, inner)
        | st.builds(Comparison, inner, st.lists(st.tuples(st.sampled_from(COMPARING), inner), min_size=1, max_size=2).map(tuple))
        | st.builds(Both, st.sampled_from(["and", "or"]), several)
    )  # fmt: skip


EXPRESSIONS: st.SearchStrategy[Expression] = st.recursive(LITERALS | st.builds(Name, NAMES), _made, max_leaves=8)


@many(300)
@given(EXPRESSIONS)
def test_what_is_written_is_read(expression: Expression) -> None:
    """With brackets where they are needed, and the same text again."""
    text = written(expression)
    if len(text) > MOST_CHARACTERS:
        return
    found = read(text)
    assert written(found) == text and set(names_of(found)) == set(names_of(expression))
    assert found == expression


@many(300)
@given(
    st.lists(st.sampled_from(["x", " ", "(", ")", "[", "]", ".", ",", "and", "or", "not", "in", "is", "==", "<", "-", "+", "//", "1", "2.5", '"a"', "'", "\\", "len", "len(", "__x", "é", "\0", "lambda", "=", "{", "1e9999"]), max_size=30).map(" ".join)
    | st.text(max_size=60)
)  # fmt: skip
def test_any_text_is_an_expression_or_says_where_not(text: str) -> None:
    """The place lies in the text, or right behind it."""
    try:
        read(text)
    except ExpressionTrouble as trouble:
        assert 1 <= trouble.position <= len(text) + 1


@pytest.mark.parametrize(
    ("text", "position", "said"),
    [
        ("", 1, "a name, a number, a text or a bracket is expected, not the end"),
        ("passengers >", 13, "a name, a number"),
        ("passengers > 4 5", 16, "nothing more, or one of"),
        ("quote(4)", 6, "nothing of the app is called"),
        ("fares.quote(4)", 12, "nothing of the app is called"),
        ("len()", 1, "len takes 1 values, not 0"),
        ("round(1, 2, 3)", 1, "round takes 1 to 2 values, not 3"),
        ("x.__class__", 3, "two underscores are Python's own"),
        ("__import__", 1, "two underscores are Python's own"),
        ("lambda x", 1, "no part of this language"),
        ("x = 4", 3, "`=` is no part of this language"),
        ('x == "pier', 6, "this text has no end"),
        (r'x == "\p"', 7, "a backslash is written"),
        ("x not 4", 7, "`in` is expected"),
        ("[1, 2", 6, "a comma or `]` is expected"),
        ("1e999", 1, "too large"),
        ("1" * 21, 1, "up to 20 digits"),
        ("(" * 30 + "x" + ")" * 30, 20, "brackets go up to 20 deep"),
        ("+".join("x" * (MOST_PARTS + 1)), 1, f"up to {MOST_PARTS} parts"),
        ("x" * (MOST_CHARACTERS + 1), MOST_CHARACTERS + 1, f"up to {MOST_CHARACTERS} characters"),
        ("-" * 400 + "1", 402, f"up to {MOST_PARTS} parts"),
        ("not " * 120 + "x", 482, f"up to {MOST_PARTS} parts"),
    ],
)
def test_what_is_no_expression_says_where(text: str, position: int, said: str) -> None:
    with pytest.raises(ExpressionTrouble, match=r"At character \d+: ") as raised:
        read(text)
    assert said in str(raised.value)
    assert raised.value.position == position or "parts" in said or "deep" in said


def test_messages() -> None:
    """Values stand in brackets; brackets that are meant are doubled; a text in quotes may hold one."""
    message = read_message('fare {base} for {passengers + 1} {{sic}} {prices["}"]}')
    assert message.template == 'fare {base} for {passengers + 1} {{sic}} {prices["}"]}'
    assert message.said([4, 5, "x"], str) == "fare 4 for 5 {sic} x"
    assert read_message("no value at all").said([], str) == "no value at all"
    for text, position in (("a {x", 3), ("a } b", 3), ("a {x +}", 7), ("{f(1)}", 3), ("{}", 2)):
        with pytest.raises(ExpressionTrouble) as raised:
            read_message(text)
        assert raised.value.position == position, (text, str(raised.value))
    with pytest.raises(ExpressionTrouble, match="up to 20 values"):
        read_message("{x}" * 21)
    with pytest.raises(ExpressionTrouble, match="up to 1,000 characters"):
        read_message("x" * 1001)


@given(st.text(st.sampled_from("{}ab\"'\\ .["), max_size=40))
def test_any_text_is_a_message_or_says_where_not(text: str) -> None:
    """What is one is read again from its template, and says the same."""
    try:
        message = read_message(text)
    except ExpressionTrouble as trouble:
        assert 1 <= trouble.position <= len(text) + 1
        return
    again = read_message(message.template)
    assert again == message
