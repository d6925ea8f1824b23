"""Questions: every operator on every kind of value, joined in any way, and what is said of what is no question."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.asking import MOST_CHARACTERS, MOST_DEEP, MOST_TERMS, QuestionTrouble, fields_of, holds, read
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.severity import SEVERITIES

NOW_MS = 1_790_000_000_000
TEXTS = ("type", "message")
RECORD: dict[str, Any] = {
    "type": "KeyError", "message": "no berth 'x' (yet), Gate_Keeper 503", "severity": "WARN", "status": 503, "share": 0.25,
    "handled": True, "user.id": "p-102", "code": "007", "nothing": None, "empty": "", "time": NOW_MS - HOUR_MS, "duration": 250.0,
    "http.response.body.size": 2048, "wait_s": 1.5, "odd name": "x", "årskort": 5, "list": [1, "a"],
}  # fmt: skip
Judge = Callable[[dict[str, Any]], bool]


def asked(text: str, record: dict[str, Any]) -> bool:
    return holds(read(text, NOW_MS), record, TEXTS)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("type=KeyError", True), ("type=keyerror", False), ("type!=KeyError", False), ("type~keyerr", True), ("type ~ x", False),
        ("severity>=WARN", True), ("severity>warn", False), ("severity<ERROR", True), ("severity<=INFO", False), ("severity=warn", True),
        ("status=503", True), ("status=503.0", True), ("status=5e2", False), ("status>499 status<600", True), ("status>=503", True), ("status<=502", False),
        ("share<1", True), ("share=0.25", True), ("handled=true", True), ("handled=TRUE", True), ("handled=1", False), ("handled>0", False),
        ("user.id=p-102", True), ("user.id>p-101", True), ("user.id>p-103", False), ("code=007", True), ("code=7", False), ("code<8", True),
        ("gone=x", False), ("gone!=x", True), ('gone=""', True), ('empty=""', True), ("gone~x", False), ("gone>1", False), ("nothing<z", False), ("nothing!=1", True),
        ("user.id=p-1*", True), ("user.id=q*", False), ('user.id="p-1*"', False), ("gone=*", False),
        ('user.id="p-1"*', True), ('user.id="p 1"*', False), ('message="no ber"*', True), ('"no ber"*', True), ('"no er"*', False), ('(user.id="p-"*)', True),
        ("user.id exists", True), ("gone exists", False), ("nothing exists", False), ("empty exists", True), ("not gone exists", True),
        ("time>-2h", True), ("time>-30m", False), ("time>=2h", True), ('time<"30min ago"', True), (f"time>{to_text(NOW_MS - DAY_MS)}", True), ("time>2026-01-01", True), ("time<2026-01-01T10:30", False),
        ("duration>200", True), ("duration>200ms", True), ("duration>=0.25s", True), ("duration<1min", True), ("wait_s>1200ms", True), ("wait_s>2s", False), ("http.response.body.size>=2KiB", True), ("http.response.body.size>1MB", False),
        ("årskort=5", True), ("årskort>5", False), ("årskort exists", True), ('"odd name"=x', True), ("list exists", True), ('list~"a"', True), ('list="[1,""a""]"'.replace('""', r"\""), True),
        ("berth", True), ("BERTH", True), ("anchor", False), ("bert", False), ("ber*", True), ('"no berth"', True), ('"no ber"', False), ('"berth no"', False), ("gate keeper", True), ("gate_keeper", True), ("503", True), ("50*", True),
        ('message="no berth \'x\' (yet), Gate_Keeper 503"', True), ('message~"(yet)"', True), (r'message~"\"yet\""', False), ("not anchor", True), ("not not berth", True), ("not (berth or anchor)", False),
        ("anchor or berth", True), ("anchor or berth severity=ERROR", False), ("(anchor or berth) severity=WARN", True), ("berth and 503", True), ("anchor OR berth", True),
        ("  type = KeyError  ", True), ("not type=KeyError", False), ('code!="=x"', True), ('"a=b"', False), ("http://pier/x?a=b", False), ("or_else or berth", True),
    ],
)  # fmt: skip
def test_what_holds(text: str, wanted: bool) -> None:
    """Words are found whole, fields are compared as what they are, what is not there equals nothing."""
    assert asked(text, RECORD) is wanted


@pytest.mark.parametrize(
    ("text", "position", "said"),
    [
        ("", 1, "a term is expected"), ("   ", 1, "For example"), ('a "open', 3, "not closed"), ('type="open', 6, "not closed"), ("(a", 3, "closing bracket is expected"), ("a)", 2, "was not opened"),
        ("()", 2, "before this bracket"), ("or a", 1, "a term is expected"), ("a or", 5, "a term"), ("a or or b", 6, "a term"), ("not", 4, "a term"), ("a not", 6, "a term"), ("and", 1, "in quotes"),
        ("severity>LOUD", 10, "WARN"), ("type=", 6, "a value"), ("type==X", 6, "a value"), ("a severity>=", 13, '"" stands for what is empty'), ("type!==X", 7, "a value"), ("type=(a)", 6, "a value"), ("n>=", 4, "a value"),
        ("time>noon", 6, "-2h, 2026-11-26"), ("a duration>fast", 12, "250ms"), ("= 3", 1, "a term"), ("...", 1, "letters or digits"), ('a "&&"', 3, "message~"), ('a b!="x"*', 6, "`not b="),
        ("x" * (MOST_CHARACTERS + 1), MOST_CHARACTERS + 1, "characters"), ("(" * (MOST_DEEP + 1) + "a", MOST_DEEP + 1, "deep"), ("not " * (MOST_DEEP + 1) + "a", 4 * MOST_DEEP + 1, "deep"),
        ("a " * (MOST_TERMS + 1), 1, f"{MOST_TERMS} terms"),
    ],
)  # fmt: skip
def test_what_is_no_question(text: str, position: int, said: str) -> None:
    """It is said where it stops to be one, and what was expected there."""
    with pytest.raises(QuestionTrouble) as trouble:
        read(text, NOW_MS)
    assert said in str(trouble.value) and trouble.value.position == position, str(trouble.value)


def test_which_fields_are_asked() -> None:
    """Who looks things up by field knows which."""
    assert fields_of(read('berth (user.id=p-1 or not severity>=WARN) "a=b" x exists', 0)) == {
        "user.id",
        "severity",
        "x",
    }


NUMBERS = st.integers(-3, 3)
WORDS = st.sampled_from(["tide", "Tide", "gate", "a b", 'say "so"', "(x)", "or", "not", "b"])
ORDERS: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: bool(a == b), "!=": lambda a, b: bool(a != b), ">": lambda a, b: bool(a > b), ">=": lambda a, b: bool(a >= b),
    "<": lambda a, b: bool(a < b), "<=": lambda a, b: bool(a <= b),
}  # fmt: skip


def quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def plain(text: str) -> list[str]:
    return re.findall(r"[a-z0-9]+", text.lower())


@st.composite
def questions(draw: st.DrawFn, deep: int = 0) -> tuple[str, Judge]:
    """A question, and the same said in Python."""
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
        return quoted(word), lambda record: f" {' '.join(plain(word))} " in f" {' '.join(plain(record['message']))} "
    if kind == "contains":
        return f"message~{quoted(word)}", lambda record: word.lower() in record["message"].lower()
    if kind == "not":
        inner, says = draw(questions(deep + 1))
        return f"not ({inner})", lambda record: not says(record)
    parts = draw(st.lists(questions(deep + 1), min_size=1, max_size=3))
    joined = (" or " if kind == "any" else draw(st.sampled_from([" ", " and "]))).join(f"({text})" for text, _ in parts)
    judge = any if kind == "any" else all
    return joined, lambda record: judge(says(record) for _, says in parts)


@given(questions(), st.lists(st.fixed_dictionaries({"n": NUMBERS, "severity": st.sampled_from(SEVERITIES), "message": WORDS}), min_size=1, max_size=5))  # fmt: skip
def test_joined_in_any_way(question: tuple[str, Judge], records: list[dict[str, Any]]) -> None:
    """Whatever terms are joined however deep, what holds is what the same says in Python."""
    text, says = question
    found = read(text, NOW_MS)
    for record in records:
        assert holds(found, record, TEXTS) is says(record), text


@given(st.text(alphabet='ab=<>!~()" \\.ornt5', max_size=60))
def test_any_text_is_understood_or_refused(text: str) -> None:
    """Nothing else is raised, neither while it is read nor while it is asked."""
    try:
        found = read(text, NOW_MS)
    except QuestionTrouble as trouble:
        assert 1 <= trouble.position <= len(text) + 1
        return
    assert holds(found, RECORD, TEXTS) in (True, False)
