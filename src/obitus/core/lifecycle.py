"""The states of an issue, and what a new failure does to them. Every answer carries its reason in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final, Literal

from obitus.core.clock import to_text
from obitus.core.releases import ReleaseOrder
from obitus.core.wording import minute_of

State = Literal["untriaged", "accepted", "settled", "regressed", "parked"]
Decision = Literal["accept", "settle", "park"]
How = Literal["release", "now", "coming"]

STATES: Final[tuple[State, ...]] = ("untriaged", "accepted", "settled", "regressed", "parked")
_AFTER: Final[dict[Decision, State]] = {"accept": "accepted", "settle": "settled", "park": "parked"}


@dataclass(frozen=True, slots=True)
class Settling:
    """A person's choice when settling an issue.

    ``how``: fixed from a *release* on, from *now* on whatever the release, or from the *coming* release on. ``release``: the
    release with the fix; with *coming* it is filled in when that release comes. ``after``: with *coming*, the newest release
    known then. ``environment``: where it holds; empty for everywhere.
    """

    how: How
    time_ms: int
    release: str | None = None
    after: str | None = None
    environment: str = ""

    @property
    def said(self) -> str:
        """In words: ``from 2.9.0 on``, ``from now on``, ``from the coming release on``."""
        if self.release is not None:
            text = f"from {self.release}{', which was the coming one,' if self.how == 'coming' else ''} on"
        else:
            text = "from now on" if self.how == "now" else "from the coming release on"
        return f"{text}, {self.environment} only" if self.environment else text


@dataclass(frozen=True, slots=True)
class Happened:
    """The facts by which a failure is judged: its release (None when it names none), environment, and time."""

    release: str | None
    environment: str
    time_ms: int


@dataclass(frozen=True, slots=True)
class Judgement:
    """The effect of one more failure on its issue: the state after it, whether it is from an older release, and why."""

    state: State
    from_older_release: bool
    changed: bool
    reason: str


def settling_for(settlings: Sequence[Settling], environment: str) -> Settling | None:
    """Return the settling that holds in an environment: its own, or the one for everywhere; the latest of several."""
    own = [settling for settling in settlings if settling.environment == environment]
    everywhere = [settling for settling in settlings if not settling.environment]
    return max(own or everywhere, key=lambda settling: settling.time_ms, default=None)


def has_fix(settling: Settling, release: str | None, order: ReleaseOrder, time_ms: int) -> tuple[bool, str]:
    """Return whether code that ran at ``time_ms`` as ``release`` should have the fix, and why, in words. A release
    has it when it is the settling one, or comes later in the order *and* was first seen later: a fix in 2.9.2 is not
    in a 3.0.0 that was live before it, but is expected in the 3.0.1 after it.
    """
    if settling.how == "now":
        later = time_ms >= settling.time_ms
        return (
            later,
            f"it happened {'after' if later else 'before'} the issue was settled as of {_when(settling.time_ms)}",
        )
    named = f"release {release}" if release else "a failure without a release"
    since_ms = settling.time_ms if settling.release is None else _came(settling, order)
    if settling.release is None:
        compared = order.compare(release, settling.after) if release and settling.after else None
        first_ms = order.first_ms(release)
        if release and first_ms is not None and (settling.after is None or compared is not None):
            if compared is not None and compared <= 0:
                return (
                    False,
                    f"seen in {release}, which is not later than {settling.after}, the newest when the issue was settled as fixed from the coming release on",
                )
            if first_ms <= settling.time_ms:
                return (
                    False,
                    f"seen in {release}, which was there already when the issue was settled as fixed from the coming release on",
                )
            return True, f"seen in {release}, the next release after the issue was settled, or a later one"
    else:
        compared = order.compare(release, settling.release) if release else None
        if release and compared is not None:
            if compared == 0:
                return True, f"seen in {release}, the release it was settled in"
            if compared < 0:
                return False, f"seen in {release}, which is older than {settling.release}, where the issue was settled"
            first_ms = order.first_ms(release)
            # A patch of an older line: 3.0.0 was live before the fix in 2.9.2 was made.
            if first_ms is not None and first_ms < since_ms:
                return (
                    False,
                    f"seen in {release}, which is later than {settling.release} by its number, but was there before it, so the fix cannot be in it",
                )
            return True, f"seen in {release}, a release later than {settling.release}"
        first_ms = order.first_ms(release)
        if first_ms is not None and order.first_ms(settling.release) is None and first_ms <= settling.time_ms:
            return (
                False,
                f"seen in {release}, which was there already, and {settling.release}, where the issue was settled, has not come yet",
            )
    later = time_ms > since_ms
    what = settling.release or settling.after or "any other release"
    when = "after" if later else "before"
    return later, f"{named} cannot be ordered against {what}, and it happened {when} {_when(since_ms)}; judged by time"


def judge_failure(state: State, settlings: Sequence[Settling], failure: Happened, order: ReleaseOrder) -> Judgement:
    """Decide the effect of a failure on an issue in ``state``, by the time of the failure, not of its arrival. A
    pure function. Only a settled issue can change. A failure with a release that has the fix is a regression; one
    without it is from an older release. An issue settled in some environments only is not changed by failures
    elsewhere.
    """
    if state != "settled":
        return Judgement(
            state, from_older_release=False, changed=False, reason=f"The issue is {state}; one more failure."
        )
    settling = settling_for(settlings, failure.environment)
    if settling is None:
        where = ", ".join(sorted({one.environment for one in settlings})) or "no environment"
        reason = f"Not judged: the issue is settled in {where} only, and this failure is from {failure.environment}."
        return Judgement("settled", from_older_release=False, changed=False, reason=reason)
    fixed, why = has_fix(settling, failure.release, order, failure.time_ms)
    if fixed:
        return Judgement("regressed", from_older_release=False, changed=True, reason=f"Regressed: {why}.")
    return Judgement("settled", from_older_release=True, changed=False, reason=f"From an older release: {why}.")


def next_came(settling: Settling, release: str, order: ReleaseOrder) -> bool:
    """Return whether a release is the *coming* one of a settling."""
    if settling.how != "coming" or settling.release is not None or not release:
        return False
    return has_fix(settling, release, order, settling.time_ms)[0]


def state_after(decision: Decision) -> State:
    """Return the state that a person's decision leads to; each decision is possible from every state."""
    return _AFTER[decision]


def _came(settling: Settling, order: ReleaseOrder) -> int:
    """Return when the fix arrived: when its release was first seen, or the time of settling while it has not been."""
    first_ms = order.first_ms(settling.release)
    return (
        settling.time_ms
        if first_ms is None
        else min(first_ms, settling.time_ms)
        if settling.how == "release"
        else first_ms
    )


def _when(time_ms: int) -> str:
    return minute_of(to_text(time_ms))
