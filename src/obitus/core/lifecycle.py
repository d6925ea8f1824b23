"""The states of an issue, and what a new failure does to them. Every answer carries its reason in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

from obitus.core.releases import compare

State = Literal["untriaged", "accepted", "settled", "regressed", "parked"]
Decision = Literal["accept", "settle", "park"]

STATES: Final[tuple[State, ...]] = ("untriaged", "accepted", "settled", "regressed", "parked")
_AFTER: Final[dict[Decision, State]] = {"accept": "accepted", "settle": "settled", "park": "parked"}


@dataclass(frozen=True)
class Judgement:
    """What one more failure means for its issue: the state after it, whether it is a straggler, and why."""

    state: State
    straggler: bool
    changed: bool
    reason: str


def judge_failure(
    state: State,
    *,
    settled_in: str | None,
    settled_ms: int | None,
    release: str | None,
    time_ms: int,
) -> Judgement:
    """Decide what a failure of ``release`` at ``time_ms`` (Unix, milliseconds) means for an issue in ``state``.

    Only a settled issue can change: a failure of the settling release or of a later one is a regression, one of an
    older release is a straggler. Where the releases have no known order, time decides, and the reason says so.
    """
    if state != "settled":
        return Judgement(state, straggler=False, changed=False, reason=f"The issue is {state}; one more failure.")
    order = compare(release, settled_in) if release is not None and settled_in is not None else None
    if order is None:
        named = "a failure without a release" if release is None else f"release {release}"
        if time_ms > (settled_ms or 0):
            return Judgement(
                "regressed",
                straggler=False,
                changed=True,
                reason=f"Regressed: {named} cannot be ordered against {settled_in or 'no release'}, "
                "and the failure happened after the issue was settled. Judged by time.",
            )
        return Judgement(
            "settled",
            straggler=True,
            changed=False,
            reason=f"Straggler: {named} cannot be ordered against {settled_in or 'no release'}, "
            "and the failure happened before the issue was settled. Judged by time.",
        )
    if order < 0:
        return Judgement(
            "settled",
            straggler=True,
            changed=False,
            reason=f"Straggler: seen in {release}, which is older than {settled_in}, where the issue was settled.",
        )
    how = "the release it was settled in" if order == 0 else f"a release later than {settled_in}"
    return Judgement("regressed", straggler=False, changed=True, reason=f"Regressed: seen in {release}, {how}.")


def state_after(decision: Decision) -> State:
    """Return the state that a person's decision leads to; each decision is possible from every state."""
    return _AFTER[decision]
