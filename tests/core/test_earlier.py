"""How near two issues are: symmetric, bounded, and only by what they share; weak signs alone are not enough."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.earlier import ENOUGH, Looks, nearness

TIDE = Looks(
    "skerry.TideUnavailable",
    "ReadTimeout",
    "sailings.tides.depth_at",
    "no depth for {}",
    "POST /sailings/{id}/boardings",
)
WORDS = st.sampled_from(["", "no depth for {}", "no depth at {}", "pier {} is closed", "0"])
LOOKS = st.builds(
    Looks,
    st.sampled_from(["KeyError", "ValueError", "skerry.TideUnavailable"]),
    st.sampled_from(["", "KeyError", "ReadTimeout"]),
    st.sampled_from(["", "sailings.tides.depth_at", "sailings.tides.draw", "gatekeeper.passes.encode", "main"]),
    WORDS,
    st.sampled_from(["", "GET /", "POST /boardings"]),
)


@given(LOOKS, LOOKS)
def test_both_ways_the_same(one: Looks, other: Looks) -> None:
    """It is as near to the other as the other to it, from 0 to 1, with a reason for whatever there is."""
    found = nearness(one, other)
    assert found.score == nearness(other, one).score and set(found.reasons) == set(nearness(other, one).reasons)
    assert 0 <= found.score <= 1 and (found.score > 0) == bool(found.reasons)
    assert nearness(one, one).score >= found.score


def test_reasons_are_said() -> None:
    """The strongest first, in words."""
    again = replace(TIDE, message="no depth for {} today", cause="ConnectError")
    assert nearness(TIDE, again).reasons == (
        "raised in the same function, sailings.tides.depth_at",
        "a message that is alike by 86%",
        "seen on the same entry point, POST /sailings/{id}/boardings",
        "the same type, skerry.TideUnavailable",
    )
    wrapped = Looks("httpx.ReadTimeout", "skerry.TideUnavailable", "sailings.tides.draw", "", "")
    assert nearness(TIDE, wrapped).reasons == (
        "the same type, skerry.TideUnavailable",
        "raised in the same module, sailings.tides",
    )


def test_one_weak_sign_is_not_enough() -> None:
    """A KeyError is like no other KeyError, nor is all that one entry point ever met."""
    other = Looks("KeyError", "", "gatekeeper.passes.encode", "pier", "GET /")
    for weak in (
        replace(other, place="a.b", message="x y", entry_point=""),
        replace(other, type="X", place="c.d", message=""),
    ):
        assert 0 < nearness(other, weak).score < ENOUGH
    assert nearness(other, replace(other, type="X", message="z", entry_point="")).is_enough, (
        "the same function alone is"
    )
