"""What a failure means for its issue's state: the table of cases."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.lifecycle import (
    STATES,
    Happened,
    Settling,
    has_fix,
    judge_failure,
    next_came,
    settling_for,
    state_after,
)
from obitus.core.releases import DatedRelease, ReleaseOrder

T = 1_000_000_000
H = 3_600_000

# Main line 2.8.0 … 3.1.0 in time; 2.9.2 is a fix on the old branch, made after 3.0.0 was live.
LINE = {"2.8.0": T - 90 * H, "2.9.0": T - 60 * H, "2.9.1": T - 50 * H, "3.0.0": T - 30 * H, "2.9.2": T - 2 * H, "3.0.1": T + 5 * H, "3.1.0": T + 9 * H}  # fmt: skip
HASHES = {"a1b2c3d": T - 9 * H, "beef001": T - 3 * H, "0c0ffee": T + 4 * H}


def order(known: dict[str, int]) -> ReleaseOrder:
    return ReleaseOrder(DatedRelease(version, first_ms) for version, first_ms in known.items())


def in_(release: str, environment: str = "") -> Settling:
    return Settling("release", T, release, environment=environment)


NOW = Settling("now", T)
NEXT = Settling("coming", T, after="3.0.0")
NEXT_HASH = Settling("coming", T, after="beef001")

CASES = [
    # releases known, settled how, release of the failure, time from the settling in hours, becomes
    (LINE, in_("2.9.0"), "2.9.0", 1, "regressed"),
    (LINE, in_("2.9.0"), "2.9.0", -1, "regressed"),
    (LINE, in_("2.9.0"), "3.0.0", 1, "regressed"),
    (LINE, in_("2.9.0"), "2.8.0", 1, "from an older release"),
    (LINE, in_("2.9.0"), "2.9.0-rc.1", 1, "from an older release"),
    (LINE, in_("2.9.0"), "2.9.1-rc.1", 1, "regressed"),
    (LINE, in_("2.9.0"), "2.9.0+build7", 1, "regressed"),
    # A fix on a branch: 3.0.0 was live before it and has it not, what comes after on 3.x has.
    (LINE, in_("2.9.2"), "3.0.0", 1, "from an older release"),
    (LINE, in_("2.9.2"), "3.0.0", 100, "from an older release"),
    (LINE, in_("2.9.2"), "2.9.2", 1, "regressed"),
    (LINE, in_("2.9.2"), "2.9.1", 1, "from an older release"),
    (LINE, in_("2.9.2"), "3.0.1", 6, "regressed"),
    (LINE, in_("2.9.2"), "3.1.0", 10, "regressed"),
    # Settled in a release that has not come yet.
    (LINE, in_("3.2.0"), "3.0.0", 1, "from an older release"),
    (LINE, in_("3.2.0"), "3.1.0", 12, "from an older release"),
    (LINE, in_("3.2.0"), "3.2.0", 20, "regressed"),
    (LINE, in_("3.2.0"), "3.3.0", 20, "regressed"),
    (LINE, in_("spring"), "3.0.0", 1, "from an older release"),
    # A rollback brings an old release back: no wolf.
    (LINE, in_("3.1.0"), "3.0.1", 200, "from an older release"),
    # Settled by something done now: only the time counts, also for what was reported late.
    (LINE, NOW, "2.8.0", 1, "regressed"),
    (LINE, NOW, "3.1.0", -1, "from an older release"),
    (LINE, NOW, None, 1, "regressed"),
    (LINE, NOW, None, -1, "from an older release"),
    # Settled in whatever comes next.
    (LINE, NEXT, "3.0.0", 50, "from an older release"),
    (LINE, NEXT, "2.9.2", 50, "from an older release"),
    (LINE, NEXT, "3.0.1", 6, "regressed"),
    (LINE, NEXT, "3.1.0", 10, "regressed"),
    ({**LINE, "2.9.3": T + 6 * H}, NEXT, "2.9.3", 7, "from an older release"),
    (LINE, Settling("coming", T, "3.0.1", "3.0.0"), "3.0.1", 6, "regressed"),
    (LINE, Settling("coming", T, "3.0.1", "3.0.0"), "3.0.0", 50, "from an older release"),
    (HASHES, NEXT_HASH, "beef001", 9, "from an older release"),
    (HASHES, NEXT_HASH, "0c0ffee", 9, "regressed"),
    # Commit hashes are ordered by when they first came.
    (HASHES, in_("beef001"), "a1b2c3d", 1, "from an older release"),
    (HASHES, in_("beef001"), "beef001", 1, "regressed"),
    (HASHES, in_("beef001"), "0c0ffee", 5, "regressed"),
    # Nobody can tell: time does, and says so.
    (LINE, in_("2.9.0"), None, 1, "regressed"),
    (LINE, in_("2.9.0"), None, -61, "from an older release"),
    ({}, in_("2.9.0"), "a1b2c3", 1, "regressed"),
    ({}, in_("2.9.0"), "a1b2c3", -1, "from an older release"),
    ({}, Settling("coming", T), None, 1, "regressed"),
]


@pytest.mark.parametrize(("known", "settling", "release", "hours", "becomes"), CASES)
def test_a_settled_issue(
    known: dict[str, int], settling: Settling, release: str | None, hours: int, becomes: str
) -> None:
    """Each case of a settled issue that is seen again, with its reason in words."""
    judged = judge_failure("settled", [settling], Happened(release, "production", T + hours * H), order(known))
    assert (judged.state, judged.from_older_release) == (
        ("regressed", False) if becomes == "regressed" else ("settled", True)
    ), judged.reason
    assert judged.changed == (becomes == "regressed")
    assert judged.reason.startswith(becomes.capitalize())
    if release is None and settling.how != "now":
        assert "judged by time" in judged.reason


@pytest.mark.parametrize("state", [state for state in STATES if state != "settled"])
def test_other_states_stay(state: str) -> None:
    """Nothing but a settled issue changes by being seen."""
    judged = judge_failure(state, [in_("2.8.0")], Happened("2.9.0", "production", T + 1), order(LINE))  # type: ignore[arg-type]
    assert judged.state == state and not judged.changed and not judged.from_older_release


def test_environments_settle_on_their_own_or_together() -> None:
    """A settling of one environment says nothing of others; it goes before the one for everywhere."""
    own, everywhere = in_("2.9.0", "production"), in_("3.1.0")
    known = order(LINE)
    judged = judge_failure("settled", [own], Happened("2.9.1", "staging", T + 1), known)
    assert (judged.state, judged.from_older_release, judged.changed) == ("settled", False, False)
    assert "settled in production only" in judged.reason
    assert judge_failure("settled", [own, everywhere], Happened("2.9.1", "production", T + 1), known).changed
    assert judge_failure("settled", [own, everywhere], Happened("2.9.1", "staging", T + 1), known).from_older_release
    assert settling_for([own], "staging") is None and settling_for([own, everywhere], "staging") is everywhere


def test_the_next_release() -> None:
    """What comes next is later than all that was known; an old branch's fix release is not it."""
    known = order({**LINE, "2.9.3": T + 6 * H})
    assert next_came(NEXT, "3.0.1", known)
    assert (
        not next_came(NEXT, "2.9.3", known) and not next_came(NEXT, "3.0.0", known) and not next_came(NEXT, "", known)
    )
    assert not next_came(in_("3.0.1"), "3.0.1", known)
    assert not next_came(Settling("coming", T, "3.0.1", "3.0.0"), "3.1.0", known)


@given(
    st.dictionaries(
        st.sampled_from([*LINE, *HASHES, "4.0.0", "spring"]), st.integers(T - 99 * H, T + 99 * H), max_size=9
    ),
    st.sampled_from(["release", "now", "coming"]),
    st.sampled_from([*LINE, *HASHES, "spring"]),
    st.sampled_from([None, *LINE, *HASHES, "autumn"]),
    st.integers(T - 99 * H, T + 99 * H),
)
def test_one_answer_for_one_question(
    known: dict[str, int], how: str, release: str, failing: str | None, time_ms: int
) -> None:
    """Whatever is known, a failure is a regression or one from an older release, and always the same one; order of arrival plays no part."""
    settling = Settling(how, T, release if how == "release" else None, after=release if how == "coming" else None)  # type: ignore[arg-type]
    there, again = order(known), order(dict(reversed(known.items())))
    failure = Happened(failing, "production", time_ms)
    judged = judge_failure("settled", [settling], failure, there)
    assert judged.from_older_release != judged.changed
    assert judged == judge_failure("settled", [settling], failure, again)
    assert has_fix(settling, failing, there, time_ms)[0] == judged.changed


def test_decisions() -> None:
    """Each decision leads to its state."""
    assert [state_after(d) for d in ("accept", "settle", "park")] == ["accepted", "settled", "parked"]
    assert [s.said for s in (NOW, NEXT, in_("2.9.0", "staging"))] == [
        "from now on",
        "from the coming release on",
        "from 2.9.0 on, staging only",
    ]
