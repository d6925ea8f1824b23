"""Comparing two fingerprints: each rule by an example, and what holds for all of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.grouping.likeness import compare, keys_of
from obitus.core.grouping.recipe import Traits

CALLERS = (("boarding.board", 30), ("boarding.main", 90))
WITH_CODE = Traits("ValueError", "fares", "price_of", "return fares[kind] * share", "no fare for <quoted>", 12, False, "", CALLERS, "", 0, True)  # fmt: skip
BARE = replace(WITH_CODE, code="")
HELPER = replace(WITH_CODE, function="check", code="raise ValueError(text)", caller_code="check(kind, 'no fare')", helper=1)  # fmt: skip
TEXT = Traits("Said", "", "", "", "the tide service did not answer", None, False, "", (), "", 0, True)
ELSEWHERE: dict[str, Any] = {"callers": (("tides.look", 4), ("tides.start", 9))}


@pytest.mark.parametrize(
    ("one", "changes", "kind", "because"),
    [
        (WITH_CODE, {}, "same", "the words that differ are values"),
        (WITH_CODE, {"words": "no fare for <number> and <quoted>"}, "same", "values"),
        (WITH_CODE, {"words": "ferry left, pier shut down"}, "perhaps", "with other words"),
        (WITH_CODE, {"code": "return self.anything[name](other)", "words": "pier shut down, gone"}, "apart", "another line of code in the same function"),
        (WITH_CODE, {"code": "return fares[kind] * shares"}, "perhaps", "on another line of code"),
        (WITH_CODE, {"code": ""}, "same", "the code is known for one only"),
        (WITH_CODE, {"code": "", "words": "ferry left, pier shut down"}, "perhaps", "with other words"),
        (WITH_CODE, {"room": "prices"}, "same", "which has moved"),
        (WITH_CODE, {"function": "cost_of", "callers": (("fares.price_of", 12), *CALLERS)}, "same", "moved into a function that the other one calls"),
        (WITH_CODE, {"function": "cost_of"}, "same", "the function around it has another name"),
        (WITH_CODE, {"function": "cost_of"} | ELSEWHERE, "perhaps", "the same line of code in another function"),
        (WITH_CODE, {"function": "cost_of", "code": "return other[thing] + more"}, "apart", "other code in another function"),
        (WITH_CODE, {"room": "prices", "code": "return other[thing] + more"}, "perhaps", "the same name with the same callers and words"),
        (WITH_CODE, {"type": "KeyError"}, "perhaps", "with another type of exception"),
        (WITH_CODE, {"type": "KeyError", "code": "return 7"}, "apart", "another type on another line"),
        (WITH_CODE, {"type": "KeyError", "function": "cost_of"}, "apart", "another type, elsewhere"),
        (replace(WITH_CODE, type="TypeError"), {"type": "AttributeError"}, "same", "two ends of one wrong value"),
        (replace(WITH_CODE, raised_in="loads"), {"raised_in": "load"}, "same", "only the library's inside differs"),
        (replace(WITH_CODE, raised_in="loads"), {"raised_in": "load", "words": "ferry left, pier shut down"}, "perhaps", "the library raised elsewhere"),
        (replace(WITH_CODE, code="raise ValueError('no fare ' + kind)"), {"code": "raise ValueError('no fare' + kind)"}, "same", "a line of code that was edited"),
        (BARE, {"line": 19}, "same", "the line has moved"),
        (BARE, {"words": "no fare for <number> and <quoted>"}, "same", "on the same line"),
        (BARE, {"words": "ferry left, pier shut down"}, "perhaps", "on the same line of the same function, with other words"),
        (BARE, {"words": "ferry left, pier shut down", "line": 19}, "perhaps", "on another line with other words"),
        (BARE, {"line": 19, "function": "cost_of"}, "apart", "another function"),
        (BARE, {"room": "prices"}, "same", "the same words in a function of the same name"),
        (BARE, {"room": "prices"} | ELSEWHERE, "perhaps", "the same words in a function of the same name"),
        (BARE, {"function": "cost_of", "callers": (("fares.price_of", 12),)}, "perhaps", "in a function that the other one calls"),
        (replace(BARE, callers=(("fares.main", 90),), words=""), {"line": 19}, "perhaps", "on another line of the same build"),
        (HELPER, {"words": "no fare for <number> and <quoted>"}, "same", "the same call of a helper"),
        (HELPER, {"caller_code": "check(vessel, 'no vessel')", "words": "no vessel, pier shut"}, "perhaps", "on another line of code"),
        (HELPER, ELSEWHERE, "perhaps", "the same helper, called from elsewhere"),
        (HELPER, ELSEWHERE | {"room": "prices", "caller_code": ""}, "apart", "called from elsewhere"),
        (HELPER, {"code": "raise ValueError(other)"}, "perhaps", "failing on another line of it"),
        (replace(HELPER, caller_code=""), {}, "same", "called from the same function, with the same words"),
        (replace(HELPER, caller_code=""), {"words": "ferry left, pier shut down"}, "perhaps", "with other words"),
        (TEXT, {"words": "the tide service did not answer me"}, "same", "there are no frames"),
        (TEXT, {"words": "a gangway is up"}, "apart", "there are no frames"),
        (TEXT, {"function": "look", "room": "tides"}, "apart", "only one of them says where it failed"),
    ],
)  # fmt: skip
def test_each_rule(one: Traits, changes: dict[str, Any], kind: str, because: str) -> None:
    """What a pair comes to, and why, in words."""
    verdict = compare(one, replace(one, **changes))
    assert (verdict.kind, because in verdict.reason) == (kind, True), verdict


SPOTS = st.tuples(st.sampled_from(["fares.price_of", "fares.check", "tides.look", "tides.price_of"]), st.sampled_from([3, 12, 40, None]))  # fmt: skip
TRAITS = st.builds(
    Traits,
    type=st.sampled_from(["ValueError", "KeyError", "IndexError", "AttributeError", "TypeError", "NameError"]),
    room=st.sampled_from(["fares", "tides"]),
    function=st.sampled_from(["", "price_of", "check", "look"]),
    code=st.sampled_from(["", "return fares[kind] * share", "return fares[kind] * shares", "raise ValueError(text)", "go()"]),
    words=st.sampled_from(["", "no fare for <quoted>", "no fare for <number>", "ferry left, pier shut down", "<quoted>", "'NoneType' object has no attribute <quoted>"]),
    line=st.sampled_from([3, 12, 40, None]),
    in_library=st.booleans(),
    raised_in=st.sampled_from(["", "", "loads", "load"]),
    callers=st.lists(SPOTS, max_size=3).map(tuple),
    caller_code=st.sampled_from(["", "check(kind)", "check(vessel, 'no vessel')"]),
    helper=st.integers(0, 2),
    message_counts=st.booleans(),
    build=st.sampled_from(["", "", "fares-BVGWV_pq.js", "fares-DT8LVTiX.js"]),
    column=st.sampled_from([3, 12, 400]),
    engine=st.sampled_from(["", "v8", "spidermonkey"]),
)  # fmt: skip


@given(TRAITS, TRAITS)
def test_it_does_not_matter_which_came_first(one: Traits, other: Traits) -> None:
    """Both ways round it comes to the same, as sure, for the same reason."""
    assert compare(one, other) == compare(other, one)


@given(TRAITS, TRAITS)
def test_who_is_the_same_is_found(one: Traits, other: Traits) -> None:
    """An index over the keys brings together all that would be joined."""
    if compare(one, other).kind == "same":
        assert set(keys_of(one)) & set(keys_of(other)), compare(one, other).reason
