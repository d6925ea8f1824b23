"""What a failure means for its issue's state: the table of cases."""

from __future__ import annotations

import pytest

from obitus.core.lifecycle import STATES, judge_failure, state_after

T = 1_000_000

CASES = [
    # settled in, release of the failure, time, state after, straggler
    ("2.9.0", "2.9.0", T + 1, "regressed", False),
    ("2.9.0", "2.9.0", T - 1, "regressed", False),
    ("2.9.0", "3.0.0", T + 1, "regressed", False),
    ("2.9.0", "2.9.1-rc.1", T + 1, "regressed", False),
    ("2.9.0", "2.8.9", T + 1, "settled", True),
    ("2.9.0", "2.9.0-rc.1", T + 1, "settled", True),
    ("2.9.0", "2.9.0+build7", T + 1, "regressed", False),
    ("2.9.0", "a1b2c3", T + 1, "regressed", False),
    ("2.9.0", "a1b2c3", T - 1, "settled", True),
    ("2.9.0", None, T + 1, "regressed", False),
    ("2.9.0", None, T - 1, "settled", True),
    (None, "2.9.0", T + 1, "regressed", False),
]


@pytest.mark.parametrize(("settled_in", "release", "time_ms", "state", "straggler"), CASES)
def test_a_settled_issue(
    settled_in: str | None, release: str | None, time_ms: int, state: str, straggler: bool
) -> None:
    """Each case of a settled issue that is seen again, with its reason in words."""
    judged = judge_failure("settled", settled_in=settled_in, settled_ms=T, release=release, time_ms=time_ms)
    assert (judged.state, judged.straggler) == (state, straggler)
    assert judged.changed == (state == "regressed")
    assert judged.reason.startswith("Straggler" if straggler else "Regressed")
    if release is not None:
        assert release in judged.reason


@pytest.mark.parametrize("state", [state for state in STATES if state != "settled"])
def test_other_states_stay(state: str) -> None:
    """Nothing but a settled issue changes by being seen."""
    judged = judge_failure(state, settled_in="1.0.0", settled_ms=T, release="2.0.0", time_ms=T + 1)  # type: ignore[arg-type]
    assert judged.state == state and not judged.changed and not judged.straggler


def test_decisions() -> None:
    """Each decision leads to its state."""
    assert [state_after(d) for d in ("accept", "settle", "park")] == ["accepted", "settled", "parked"]
