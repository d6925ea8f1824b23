"""Failures of what was built, without source maps: in two builds and two browsers one fault is one issue, and two are two."""

from __future__ import annotations

import random
import string

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.built import is_built, name_of, room_of
from obitus.core.grouping.engines import in_one_form
from obitus.core.grouping.groups import Groups
from obitus.core.grouping.recipe import earlier_texts, fingerprint
from obitus.core.stacks import stack_of

PAGE = "https://pier.skerry.example/assets/"


def thrown(stack: str, message: str, kind: str = "TypeError") -> tuple[ChainLink, ...]:
    """Return what a page reports."""
    return stack_of(kind, message, stack.replace("PAGE/", PAGE)).chain


# The same two faults as two browsers report them, from two builds.
HEIGHT = (
    ("    at i.surcharge (PAGE/fares-BVGWV_pq.js:1:350)\n    at r (PAGE/boarding-C-3EKP_M.js:1:120)\n    at HTMLButtonElement.<anonymous> (PAGE/stage-BCEmtwpH.js:1:215)",
     "Cannot read properties of undefined (reading 'metres')"),
    ("surcharge@PAGE/fares-BVGWV_pq.js:1:343\nr@PAGE/boarding-C-3EKP_M.js:1:111\nheight is empty@PAGE/boarding-C-3EKP_M.js:1:371\nn/<@PAGE/stage-BCEmtwpH.js:1:209\n",
     "can't access property \"metres\", t.height is undefined"),
    ("    at o.surcharge (PAGE/fares-DT8LVTiX.js:1:411)\n    at s (PAGE/boarding-DOGzMVUT.js:1:166)\n    at HTMLButtonElement.<anonymous> (PAGE/stage-CERUdDDV.js:1:299)",
     "Cannot read properties of undefined (reading 'metres')"),
    ("surcharge@PAGE/fares-DT8LVTiX.js:1:404\ns@PAGE/boarding-DOGzMVUT.js:1:160\ni/<@PAGE/stage-CERUdDDV.js:1:290\n",
     "can't access property \"metres\", n.height is undefined"),
)  # fmt: skip
WIDTH = (
    ("    at i.surcharge (PAGE/fares-BVGWV_pq.js:1:500)\n    at r (PAGE/boarding-C-3EKP_M.js:1:120)", "Cannot read properties of undefined (reading 'width')"),
    ("surcharge@PAGE/fares-DT8LVTiX.js:1:560\ns@PAGE/boarding-DOGzMVUT.js:1:160\n", "can't access property \"width\", n.ramp is undefined"),
)  # fmt: skip


def test_two_builds_and_two_browsers_are_one_issue_for_each_fault() -> None:
    """In whatever order they come."""
    for seed in range(20):
        groups, found = Groups(), {}
        reports = [("height", *one) for one in HEIGHT] + [("width", *one) for one in WIDTH]
        random.Random(seed).shuffle(reports)
        for fault, stack, message in reports:
            found.setdefault(fault, set()).add(groups.add(thrown(stack, message))[0])
        assert len(found["height"]) == len(found["width"]) == 1 and found["height"] != found["width"], seed


def test_one_place_tells_more_than_words_within_a_build() -> None:
    """Words that are values join what failed at one place; the same words at two places of one build stay two issues."""
    groups = Groups()

    def issue(column: int, message: str) -> int:
        return groups.add(thrown(f"    at r (PAGE/fares-BVGWV_pq.js:1:{column})", message, "Error"))[0]

    assert issue(350, "no fare for tram at skerry") == issue(350, "no fare for bus at nordvik")
    assert issue(350, "the gate is shut") != issue(900, "the gate is shut")


@given(st.text(string.ascii_letters, min_size=1, max_size=2), st.text("abcdef0123456789", min_size=8, max_size=12))
def test_what_a_build_makes_up_changes_nothing(name: str, digest: str) -> None:
    """Neither the function's name nor the hash in the file's."""
    frame = Frame(name, "", f"{PAGE}fares-{digest}a1.js", 1, column=77)
    assert is_built(frame) and room_of(frame) == "assets/fares.js" and name_of(name) == "<anonymous>"


@pytest.mark.parametrize(
    ("file", "column", "built"),
    [
        ("assets/fares-CJhhJDGU.js", 5, True),
        ("assets/fares-zrgorlbh.js", 5, True),
        ("assets/fares.8f3c21aa.js", 5, True),
        ("assets/fares.min.js", 5, True),
        ("assets/fares.js", 4000, True),
        ("assets/fares.js", 40, False),
        ("src/user-settings.js", 40, False),
        ("src/main-controls.js", 12, False),
        ("src/fares-2.0.1.js", 12, False),
        ("/srv/skerry/fares-8f3c21aa.py", 12, False),
    ],
)
def test_what_counts_as_built(file: str, column: int, built: bool) -> None:
    """A hash in the name, a minified file, a column that nobody writes."""
    assert is_built(Frame("fare", "", file, 1, column=column)) == built


def test_names_that_no_build_changes() -> None:
    """Methods and properties stay; what the build called something does not."""
    named = {
        "i.surcharge": "surcharge", "surcharge": "surcharge", "HTMLButtonElement.r": "<anonymous>", "n/<": "<anonymous>",
        "te/<.children<": "<anonymous>", "set berth [as berth]": "berth", "async load": "load", "new n": "<anonymous>", "": "<anonymous>",
    }  # fmt: skip
    assert {name: name_of(name) for name in named} == named


@pytest.mark.parametrize(
    ("said", "form"),
    [
        (("Cannot set properties of null (setting 'down')", 'can\'t access property "down", t[e] is null', "null is not an object (evaluating 'e.way.down')"), "undefined has no property down"),
        (("a.b.map is not a function", "a.b.map is not a function", "a.b.map is not a function. (In 'a.b.map(c)', 'a.b.map' is undefined)"), "not a function: map"),
        (("fare is not defined", "fare is not defined", "Can't find variable: fare"), "not defined: fare"),
        (("Unexpected token '<', \"<!doctype \"... is not valid JSON", "JSON.parse: unexpected character at line 1 column 1 of the JSON data", "JSON Parse error: Unrecognized token '<'"), "text is not valid JSON"),
        (("Maximum call stack size exceeded", "too much recursion", "Maximum call stack size exceeded."), "endless recursion"),
        (("Failed to fetch", "NetworkError when attempting to fetch resource.", "Load failed"), "a request got no answer"),
        (("Failed to execute 'append' on 'Element': The new child element contains the parent.", "Element.append: The new child is an ancestor of the parent"), "Element.append was refused"),
    ],
)  # fmt: skip
def test_engines_in_one_form(said: tuple[str, ...], form: str) -> None:
    """What V8, SpiderMonkey and JavaScriptCore say of one fault is one text."""
    assert {in_one_form(message).words for message in said} == {f"JavaScript: {form}"}
    assert in_one_form("no berth at skerry") == ("no berth at skerry", "")


def test_an_exception_s_own_constructor_is_not_where_it_failed() -> None:
    """One browser shows it as the innermost call, the other does not."""
    fox = "NoBerth@PAGE/app.js:3:4\nassign@PAGE/crew.js:10:5\n"
    chromium = "    at assign (PAGE/crew.js:10:11)\n"
    found = [fingerprint(thrown(stack, "no berth", "NoBerth")) for stack in (fox, chromium)]
    assert found[0].text == found[1].text and found[0].traits.function == "assign"


def test_issues_of_earlier_versions_go_on() -> None:
    """What was built has another fingerprint than before, which is looked for; other failures keep theirs."""
    built = thrown(*HEIGHT[0])
    assert fingerprint(built).text.startswith("4-")
    assert [text[:2] for text in earlier_texts(built)] == ["3-", "2-", earlier_texts(built)[2][:2]]
    python = (ChainLink("KeyError", "'berth'", (Frame("assign", "crew", "crew.py", 4, code="return berths[name]"),)),)
    assert fingerprint(python).text.startswith("3-") and len(earlier_texts(python)) == 2
