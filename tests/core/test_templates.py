"""Messages are taken apart by their templates, and come together again as they were."""

from __future__ import annotations

import logging
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.templates import SEPARATOR, filled_in, values_in


@given(st.text(max_size=60), st.text(max_size=80))
def test_together_again(template: str, message: str) -> None:
    """Whatever stands in the two: either nothing is taken apart, or exactly the message comes out again."""
    values = values_in(template, message)
    if values is not None:
        assert filled_in(template, values) == message
        assert SEPARATOR not in "".join(values)


@given(st.lists(st.sampled_from(["%s", "%d", "{berth}", "%%", "{{", "at ", "pier", " "]), max_size=8), st.data())
def test_what_a_template_made(pieces: list[str], data: st.DataObject) -> None:
    """A message that a template made is always taken apart."""
    template = "".join(pieces)
    places = sum(piece in ("%s", "%d", "{berth}") for piece in pieces)
    if values_in(template, template) is None and places == 0:
        return
    values = data.draw(
        st.lists(st.text(st.characters(exclude_characters=SEPARATOR), max_size=9), min_size=places, max_size=places)
    )
    try:
        message = filled_in(template, values)
    except ValueError:
        # Two pieces together are a place of another kind: "%" and "%s".
        return
    found = values_in(template, message)
    assert found is not None and filled_in(template, found) == message


@pytest.mark.parametrize(
    ("template", "values", "apart"),
    [
        ("quoted %s for %d passengers", ("42.50", 3), ["42.50", "3"]),
        ("%(pier)s is closed", ({"pier": "eastholm"},), ["eastholm"]),
        ("100%% of %s", ("berths",), ["berths"]),
        ("%-10s|", ("a",), ["a         "]),
    ],
)
def test_as_logging_writes_them(template: str, values: tuple[Any, ...], apart: list[str]) -> None:
    """What Python's logging makes of a template is taken apart into the texts of its values."""
    message = logging.LogRecord("x", 20, "", 1, template, values, None).getMessage()
    assert values_in(template, message) == apart


def test_what_is_not_taken_apart() -> None:
    """No place, another text, or a value that holds the separator: the message stands for itself."""
    assert values_in("no berth", "no berth") is None
    assert values_in("no %s", "a berth") is None
    assert values_in("no %s today", "no berth") is None
    assert values_in("%s", f"a{SEPARATOR}b") is None
