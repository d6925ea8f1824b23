"""How much an issue matters: each sign says what it is worth, more of a sign never makes it matter less, and people have the last word."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.lifecycle import STATES
from obitus.core.priority import LEVELS, Facts, weigh

NOW_MS = 1_800_000_000_000
CALM = Facts("accepted", NOW_MS - 9 * DAY_MS, NOW_MS - HOUR_MS, 0, "ERROR", True, 0, 0)
FACTS = st.builds(
    Facts,
    state=st.sampled_from(STATES),
    first_ms=st.integers(0, NOW_MS),
    last_ms=st.integers(0, NOW_MS),
    users=st.integers(0, 10**6),
    severity=st.sampled_from(["WARN", "ERROR", "FATAL"]),
    handled=st.booleans(),
    in_last_hour=st.integers(0, 10**6),
    in_day_before=st.integers(0, 10**7),
    spread=st.lists(st.sampled_from(["staging", "3.1.0", "POST /boardings", "job x"]), max_size=5).map(tuple),
)


def test_signs_are_said() -> None:
    """The heaviest first, in one line."""
    assert weigh(CALM, NOW_MS).reason == "nothing about it is urgent" and weigh(CALM, NOW_MS).level == "low"
    bad = replace(CALM, state="regressed", users=40, handled=False, in_last_hour=60, in_day_before=240, severity="FATAL", spread=("staging",))  # fmt: skip
    found = weigh(bad, NOW_MS)
    assert found.level == "high"
    assert found.reason == "regressed, 6 times as many in the last hour, 40 users, it ended the program, not caught, now also in staging"  # fmt: skip
    new = replace(CALM, state="untriaged", first_ms=NOW_MS - HOUR_MS, handled=False)
    assert weigh(new, NOW_MS).reason == "new, not caught" and weigh(new, NOW_MS).level == "middle"
    assert weigh(replace(new, last_ms=NOW_MS - 2 * DAY_MS), NOW_MS).level == "low"
    assert "8 in the last hour" in weigh(replace(CALM, in_last_hour=8), NOW_MS).reason
    assert "hour" not in weigh(replace(CALM, in_last_hour=8, in_day_before=150), NOW_MS).reason


def test_people_have_the_last_word() -> None:
    """What somebody said holds, and what it would be of itself is said beside it."""
    found = weigh(replace(CALM, said="high", said_by="Ida Moss"), NOW_MS)
    assert (found.level, found.reason) == ("high", "Ida Moss said so; of itself low: nothing about it is urgent")


@given(FACTS, st.integers(1, 10**6))
def test_more_never_matters_less(facts: Facts, more: int) -> None:
    """More people, more failures of late, not caught, a fatal end, more places: the score does not fall."""
    score = weigh(facts, NOW_MS).score
    for worse in (
        replace(facts, users=facts.users + more),
        replace(facts, in_last_hour=facts.in_last_hour + more),
        replace(facts, handled=False),
        replace(facts, severity="FATAL"),
        replace(facts, spread=(*facts.spread, "elsewhere")),
        replace(facts, last_ms=max(facts.last_ms, NOW_MS - 1)),
    ):
        assert weigh(worse, NOW_MS).score >= score
    assert weigh(facts, NOW_MS).level in LEVELS and weigh(facts, NOW_MS).reason
