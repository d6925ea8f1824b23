"""Which failures are kept whole: never fewer than an issue may bring, few more than that, and each other has one that stands for it."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.floods import APART_MS, SLOT_MS, Alike, Floods
from tests.examples import many

BASE_MS = 1_790_000_000_000


def alike(issue: int = 1, release: int = 1, entry_point: str = "POST /boardings") -> Alike:
    """Return what failures of an issue have in common."""
    return Alike(issue, "f" * 8, release, "production", entry_point, "TideLow", "ERROR", False, False, 20_000)


def decided(floods: Floods, one: Alike, time_ms: int, now_ms: int) -> int | None:
    """Return the number of the failure that represents one; None where that is kept whole."""
    return None if floods.take(one.issue_id, now_ms) else floods.represented_by(one, time_ms)


CAME = st.lists(
    st.tuples(st.integers(0, 2), st.integers(0, 1), st.integers(0, 900), st.integers(-20_000, 20_000)), max_size=200
)


@given(CAME, st.integers(1, 20), st.sampled_from((0.5, 2.0, 10.0)))
@many(300)
def test_what_is_only_counted_has_one_like_it_that_is_kept(
    came: list[tuple[int, int, int, int]], at_once: int, a_second: float
) -> None:
    """The one that stands has all in common, was kept before, and lies near in time; an issue keeps no fewer than it may bring."""
    floods, kept, now_ms = Floods(at_once, a_second), {}, BASE_MS
    whole: dict[int, int] = {}
    for seq, (issue, release, later_ms, off_ms) in enumerate(came, start=1):
        now_ms += later_ms
        like, time_ms = alike(issue, release), now_ms + off_ms
        left = floods.whole_left(issue, now_ms)
        represents = decided(floods, like, time_ms, now_ms)
        # What is said before holds for what comes now.
        assert represents is None or left == 0
        assert floods.whole_left(issue, now_ms) == max(0, left - 1)
        if represents is None:
            floods.kept(like, seq, time_ms)
            kept[seq] = (like, time_ms)
            whole[issue] = whole.get(issue, 0) + 1
            continue
        assert whole[issue] >= at_once
        about, at_ms = kept[represents]
        assert about == like and abs(at_ms - time_ms) <= APART_MS and at_ms // SLOT_MS == time_ms // SLOT_MS


def test_a_flood_costs_what_it_may_and_a_quiet_issue_is_whole() -> None:
    """A thousand a second for a minute keep the first thousand and ten a second; another issue that fails now and then keeps all."""
    floods, kept, quiet = Floods(), 0, 0
    for at in range(60_000):
        now_ms = BASE_MS + at
        if decided(floods, alike(), now_ms, now_ms) is None:
            kept += 1
            floods.kept(alike(), at, now_ms)
        if at % 200 == 0:
            quiet += decided(floods, alike(2), now_ms, now_ms) is None
            floods.kept(alike(2), at, now_ms)
    assert 1000 + 590 <= kept <= 1000 + 610 and quiet == 300


def test_what_a_sender_only_counted_takes_nothing_of_what_may_be_whole() -> None:
    """It is counted with the one that stands for it, from the first on, and kept only where none does."""
    floods = Floods(at_once=5, a_second=1)
    assert floods.represented_by(alike(), BASE_MS) is None
    floods.kept(alike(), 7, BASE_MS)
    assert floods.represented_by(alike(), BASE_MS) == 7 and floods.whole_left(1, BASE_MS) == 5
    assert floods.represented_by(alike(), BASE_MS + APART_MS + 1) is None


def test_what_is_new_about_a_flood_is_kept() -> None:
    """A release, an entry point or an hour with no failure yet gets one that is whole, whatever came before; so does what was taken back."""
    floods = Floods(1, 0.0001)
    assert decided(floods, alike(), BASE_MS, BASE_MS) is None
    floods.kept(alike(), 1, BASE_MS)
    assert decided(floods, alike(), BASE_MS + 5, BASE_MS + 5) == 1
    for other in (alike(release=2), alike(entry_point="GET /fares")):
        assert decided(floods, other, BASE_MS + 5, BASE_MS + 5) is None
    assert decided(floods, alike(), BASE_MS + APART_MS + 1, BASE_MS + 5) is None
    floods.forget()
    assert decided(floods, alike(), BASE_MS + 6, BASE_MS + 6) is None
