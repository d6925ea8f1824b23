"""Which expression a caller handed over for which parameter, read from the caller's line."""

from __future__ import annotations

import ast
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.frames import Frame
from obitus.core.grouping.arguments import expression_for


def called(function: str, *parameters: str) -> Frame:
    return Frame(function, "fares", "/srv/fares.py", 4, code="return berth.pier", parameters=parameters)


def calling(code: str) -> Frame:
    return Frame("board", "sailings", "/srv/sailings.py", 9, code=code)


@pytest.mark.parametrize(
    ("function", "parameters", "parameter", "code", "expression"),
    [
        ("draw", ("berth",), "berth", "draw(None)", "None"),
        ("draw", ("pier", "berth"), "berth", "return draw(pier, berths[0])", "berths[0]"),
        ("draw", ("pier", "berth"), "berth", "draw(berth=moored, pier=pier)", "moored"),
        ("draw", ("pier", "berth"), "berth", "draw(places(1, 2)[0], {'a': (1, 2)})", "{'a': (1, 2)}"),
        ("draw", ("pier", "berth"), "berth", "draw('a, b', berth) + draw('c', None)", "berth"),
        ("draw", ("pier", "berth"), "berth", r"draw('it\'s, too', berth)", "berth"),
        ("Map.draw", ("self", "berth"), "berth", "self.map.draw(berth)", "berth"),
        ("Map.draw", ("self", "berth"), "berth", "Map.draw(map_, berth)", "berth"),
        ("Map.of", ("cls", "berth"), "berth", "Map.of(berth)", "berth"),
        ("Map.__init__", ("self", "berth"), "berth", "return Map(berth)", "berth"),
        ("Map.__init__", ("self", "berth"), "berth", "super().__init__(berth)", "berth"),
        ("draw", ("pier", "berth"), "berth", "draw(*places)", ""),
        ("draw", ("pier", "berth"), "berth", "draw(*places, berth)", ""),
        ("draw", ("pier", "berth"), "berth", "draw(*places, berth=moored)", "moored"),
        ("draw", ("pier", "berth"), "berth", "draw(pier,", ""),
        ("draw", ("pier", "berth"), "pier", "draw(pier,", "pier"),
        ("draw", ("berth",), "berth", "draw(", ""),
        ("draw", ("berth",), "berth", "draw()", ""),
        ("draw", ("berth",), "berth", "draw(x == y)", "x == y"),
        ("draw", ("berth",), "berth", "redraw(berth)", None),
        ("draw", ("berth",), "berth", "handler(berth)", None),
    ],
)
def test_the_expression_for_a_parameter(
    function: str, parameters: tuple[str, ...], parameter: str, code: str, expression: str | None
) -> None:
    """By its place or its name; nothing where the line does not show it, and none where it does not call the function."""
    assert expression_for(parameter, called(function, *parameters), calling(code)) == expression


ATOMS = st.sampled_from(["None", "berth", "pier.berths[0]", "'a, b'", "(1, 2)", "f(x, y=3)", "{'k': [1, 2]}", "-1", "a if b else c"])  # fmt: skip


@given(st.lists(ATOMS, min_size=1, max_size=5), st.integers(0, 4))
def test_places_are_those_that_the_language_counts(atoms: list[str], wanted: int) -> None:
    """What is read for a place is what the language's own parser has there."""
    line = f"return draw({', '.join(atoms)})"
    names = [f"p{i}" for i in range(5)]
    found = expression_for(names[wanted], called("draw", *names), calling(line))
    call = ast.parse(line.removeprefix("return "), mode="eval").body
    assert isinstance(call, ast.Call)
    assert found == (atoms[wanted] if wanted < len(call.args) else "")


@given(st.text(alphabet="draw(),=*'\"[]{} \\berth1", max_size=60))
def test_any_line_can_be_read(code: str) -> None:
    """Whatever a line holds, it is read without an error, and only where it calls the function."""
    found = expression_for("berth", called("draw", "pier", "berth"), calling(code))
    assert (found is not None) == (re.search(r"\bdraw\(", code) is not None)
