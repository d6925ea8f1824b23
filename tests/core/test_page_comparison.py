"""What a page and a body say of each other: only what is certain."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.page_comparison import beside


def field(name: str, *state: str, label: str = "") -> dict[str, Any]:
    return {"role": "textbox", "name": label or name, "field": name, "state": list(state)}


HEIGHT = field("height", "filled", label="Vehicle height")
KIND = field("kind", "filled", label="Vehicle")


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ({"json": {"height": "", "kind": "van"}}, ["“Vehicle height” was filled on the page; in what sailings received, height was empty."]),
        ({"json": {"vehicle": {"height": None, "kind": "van"}}}, ["“Vehicle height” was filled on the page; in what sailings received, height was empty."]),
        ({"form": [["vehicle[height]", ""], ["vehicle[kind]", "van"]]}, ["“Vehicle height” was filled on the page; in what sailings received, height was empty."]),
        ({"form": [["kind", "van"]]}, ["“Vehicle height” was filled on the page; in what sailings received, height was missing."]),
        ({"json": {"kind": "van"}}, []),
        ({"json": {"height": "2.4", "kind": "van"}}, []),
        ({"json": {"height": 0, "kind": False}}, []),
        ({"json": {"height": "[hidden: password]", "kind": "van"}}, []),
        ({"json": [{"height": ""}, {"height": "2.4"}]}, []),
        ({"json": {"pier": "eastholm"}}, []),
        ({"json": {"kind": "van"}, "cut": True}, []),
        ({"text": "height=&kind=van"}, []),
        ({}, []),
    ],
)  # fmt: skip
def test_only_what_is_certain_is_said(body: dict[str, Any], said: list[str]) -> None:
    """Empty or missing where it was filled; not where names do not agree, the form is another, or the body is cut off."""
    assert beside([HEIGHT, KIND], body, "sailings") == said


def test_what_was_empty_on_the_page_is_no_surprise() -> None:
    """Nor is what has no name; a box that was checked is one that should have been sent."""
    boxes = [
        field("height", "empty"),
        {"role": "button", "name": "Board"},
        field("van", "checked"),
        field("pets", "not checked"),
    ]
    assert beside(boxes, {"form": [["height", ""], ["pets", ""]]}, "sailings") == ["“van” was checked on the page; in what sailings received, van was missing."]  # fmt: skip


@given(st.lists(st.fixed_dictionaries({"field": st.text(max_size=5), "state": st.lists(st.sampled_from(("filled", "empty")))})), st.recursive(st.none() | st.text(max_size=3) | st.integers(), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3)))  # fmt: skip
def test_no_body_breaks_it(boxes: list[dict[str, Any]], value: Any) -> None:
    """Whatever was sent."""
    assert len(beside(boxes, {"json": value}, "sailings")) <= 10
