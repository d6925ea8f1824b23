"""The search language: every operator on every kind of value, joined in any way, and what is said of what is no search."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.search import MOST_DEEP, MOST_SIGNS, SearchTrouble, parse
from obitus.core.severity import SEVERITIES

RECORD: dict[str, Any] = {
    "type": "KeyError", "message": "no berth 'x' (yet)", "severity": "WARN", "status": 503, "share": 0.25,
    "handled": True, "user.id": "p-102", "code": "007", "nothing": None, "empty": "",
}  # fmt: skip
Judge = Callable[[dict[str, Any]], bool]


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("type=KeyError", True), ("type=keyerror", False), ("type!=KeyError", False), ("type~keyerr", True), ("type ~ x", False),
        ("severity>=WARN", True), ("severity>warn", False), ("severity<ERROR", True), ("severity<=INFO", False),
        ("status=503", True), ("status=503.0", True), ("status=5e2", False), ("status>499 status<600", True), ("status>=503", True), ("status<=502", False),
        ("share<1", True), ("share=0.25", True), ("handled=true", True), ("handled=TRUE", True), ("handled=1", False), ("handled>0", False),
        ("user.id=p-102", True), ("user.id>p-101", True), ("user.id>p-103", False), ("code=007", True), ("code=7", False), ("code<8", True),
        ("gone=x", False), ("gone!=x", True), ('gone=""', True), ('empty=""', True), ("gone~x", False), ("gone>1", False), ("nothing<z", False), ("nothing!=1", True),
        ("berth", True), ("BERTH", True), ("anchor", False), ('"no berth"', True), ('"berth no"', False), ('message="no berth \'x\' (yet)"', True),
        ('message~"(yet)"', True), (r'message~"\"yet\""', False), ("not anchor", True), ("not not berth", True), ("not (berth or anchor)", False),
        ("anchor or berth", True), ("anchor or berth severity=ERROR", False), ("(anchor or berth) severity=WARN", True), ("berth and 503", True),
        ("  type = KeyError  ", True), ("not type=KeyError", False), ("true", True), ('code!="=x"', True), ('"a=b"', False), ("http://pier/x?a=b", False), ("or_else or berth", True),
    ],
)  # fmt: skip
def test_what_holds(text: str, holds: bool) -> None:
    """Texts contain, numbers and severities are ordered, what is not there equals nothing."""
    assert parse(text).holds(RECORD) is holds


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "empty"), ("   ", "empty"), ('"open', "quote"), ('type="open', "quote"), ("(a", "not closed"), ("a)", "closing"), ("()", "missing"), ("or a", "missing"),
        ("a or", "missing"), ("a or or b", "missing"), ("not", "behind `not`"), ("a not", "behind `not`"), ("severity>LOUD", "WARN"), ("and", "missing"), ("type=", "behind type= "), ("type==X", "behind type= "), ("a severity>=", 'severity>=""'), ("type!==X", "behind type!= "), ("type=(a)", "behind type= "), ("n>=", "behind n>= "),
        ("x" * (MOST_SIGNS + 1), "signs"), ("(" * (MOST_DEEP + 1) + "a", "deep"), ("not " * (MOST_DEEP + 1) + "a", "deep"),
    ],
)  # fmt: skip
def test_what_is_no_search(text: str, said: str) -> None:
    """It is said what is wrong."""
    with pytest.raises(SearchTrouble, match=said):
        parse(text)


def test_which_fields_are_asked() -> None:
    """Who looks things up by field knows which."""
    found = parse('berth (user.id=p-1 or not severity>=WARN) "a=b"')
    assert found.fields == {"user.id", "severity"} and found.text.startswith("berth")


NUMBERS = st.integers(-3, 3)
WORDS = st.sampled_from(["tide", "Tide", "gate", "a b", 'say "so"', "(x)", "or", "not", "\\"])
ORDERS: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: bool(a == b), "!=": lambda a, b: bool(a != b), ">": lambda a, b: bool(a > b), ">=": lambda a, b: bool(a >= b),
    "<": lambda a, b: bool(a < b), "<=": lambda a, b: bool(a <= b),
}  # fmt: skip


def quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


@st.composite
def searches(draw: st.DrawFn, deep: int = 0) -> tuple[str, Judge]:
    """A search, and the same said in Python."""
    kinds = ["number", "severity", "word", "contains"] + (["not", "all", "any"] if deep < 4 else [])
    kind = draw(st.sampled_from(kinds))
    if kind == "number":
        op, wanted = draw(st.sampled_from(sorted(ORDERS))), draw(NUMBERS)
        return f"n{op}{wanted}", lambda record: ORDERS[op](record["n"], wanted)
    if kind == "severity":
        op, level = draw(st.sampled_from([">", ">=", "<", "<="])), draw(st.sampled_from(SEVERITIES))
        return f"severity {op} {level}", lambda record: ORDERS[op](
            SEVERITIES.index(record["severity"]), SEVERITIES.index(level)
        )
    word = draw(WORDS)
    if kind == "word":
        return quoted(word), lambda record: any(word.lower() in str(value).lower() for value in record.values())
    if kind == "contains":
        return f"said~{quoted(word)}", lambda record: word.lower() in record["said"].lower()
    if kind == "not":
        inner, says = draw(searches(deep + 1))
        return f"not ({inner})", lambda record: not says(record)
    parts = draw(st.lists(searches(deep + 1), min_size=1, max_size=3))
    joined = (" or " if kind == "any" else draw(st.sampled_from([" ", " and "]))).join(f"({text})" for text, _ in parts)
    judge = any if kind == "any" else all
    return joined, lambda record: judge(says(record) for _, says in parts)


@given(searches(), st.lists(st.fixed_dictionaries({"n": NUMBERS, "severity": st.sampled_from(SEVERITIES), "said": WORDS}), min_size=1, max_size=5))  # fmt: skip
def test_joined_in_any_way(search: tuple[str, Judge], records: list[dict[str, Any]]) -> None:
    """Whatever terms are joined however deep, what holds is what the same says in Python."""
    text, says = search
    found = parse(text)
    for record in records:
        assert found.holds(record) is says(record), text


@given(st.text(alphabet='ab=<>!~()" \\.ornt5', max_size=60))
def test_any_text_is_understood_or_refused(text: str) -> None:
    """Nothing else is raised, neither while it is read nor while it is asked."""
    try:
        found = parse(text)
    except SearchTrouble:
        return
    assert found.holds(RECORD) in (True, False)
