"""The conditions until which an issue is parked. Every answer has its reason in words."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Final, Literal

from obitus.core.clock import to_text
from obitus.core.releases import ReleaseOrder
from obitus.core.wording import count_of, minute_of

Another = Literal["release", "environment", "app"]
ANOTHER: Final[tuple[Another, ...]] = ("release", "environment", "app")
MOST_FAILURES: Final = 1_000_000_000
MOST_AN_HOUR: Final = 10_000
MOST_PEOPLE: Final = 100_000_000


@dataclass(frozen=True, slots=True)
class Until:
    """The conditions until which an issue is parked. The first that comes true reopens it; without any, only a person does."""

    time_ms: int | None = None
    failures: int | None = None
    """A number of further failures."""
    an_hour: int | None = None
    """A number within one hour."""
    people: int | None = None
    """A number of further people."""
    another: tuple[Another, ...] = ()
    """A failure in a release, an environment or an app in which it had not been seen before."""

    @property
    def is_open(self) -> bool:
        """Whether only a person reopens it."""
        return self == Until()

    @property
    def said(self) -> str:
        """In words: ``until 2026-12-02 09:00 UTC, 100 more failures, or a failure in another release``; '' without conditions."""
        named = self.conditions()
        if not named:
            return ""
        return "until " + (named[0] if len(named) == 1 else f"{', '.join(named[:-1])} or {named[-1]}")

    def conditions(self) -> list[str]:
        """Return its conditions, in words."""
        named = []
        if self.time_ms is not None:
            named.append(_when(self.time_ms))
        if self.failures is not None:
            named.append(_more(self.failures, "failure"))
        if self.an_hour is not None:
            named.append(f"{count_of(self.an_hour, 'failure')} within one hour")
        if self.people is not None:
            named.append(_more(self.people, "person", "people"))
        named.extend(f"a failure in another {what}" for what in ANOTHER if what in self.another)
        return named


@dataclass(frozen=True, slots=True)
class Since:
    """What has come since an issue was parked."""

    failures: int
    people: int
    in_last_hour: int = 0


@dataclass(frozen=True, slots=True)
class MetIn:
    """Where a failure happened, and where its issue had been seen before."""

    release: str
    environment: str
    is_release_known: bool
    """Whether the issue had been seen in that release."""
    is_environment_known: bool


def reopened_by_count(until: Until, since: Since) -> str | None:
    """Return why the counts since then reopen an issue, None where they do not."""
    if until.failures is not None and since.failures >= until.failures:
        return f"{_more(since.failures, 'failure')} since it was parked"
    if until.an_hour is not None and since.in_last_hour >= until.an_hour:
        return f"{count_of(since.in_last_hour, 'failure')} within one hour"
    if until.people is not None and since.people >= until.people:
        return f"it hit {_more(since.people, 'person', 'people')} since it was parked"
    return None


def reopened_by_place(until: Until, met: MetIn, newest: str | None, parked_ms: int, order: ReleaseOrder) -> str | None:
    """Return why the place of a failure reopens an issue, None where it does not. Another release is one in which
    the issue had not been seen and that is later than ``newest``, the newest one known when it was parked: an old
    one that is still running somewhere says nothing new. Where the two have no order, it is one that was first seen
    after the parking.
    """
    if "release" in until.another and met.release and not met.is_release_known:
        compared = order.compare(met.release, newest) if newest else None
        first_ms = order.first_ms(met.release)
        came_since = first_ms is None or first_ms >= parked_ms
        if compared > 0 if compared is not None else came_since:
            return f"seen in {met.release}, another release"
    if "environment" in until.another and not met.is_environment_known:
        return f"seen in {met.environment}, where it had not been seen"
    return None


def reopened_by_time(until: Until, now_ms: int) -> str | None:
    """Return why the time reopens an issue, None where it has not come."""
    if until.time_ms is not None and until.time_ms <= now_ms:
        return f"it was parked until {_when(until.time_ms)}"
    return None


def so_far(until: Until, since: Since) -> str:
    """Write the progress of counted conditions: ``37 of 100 failures, 2 of 10 people``; '' where nothing is counted."""
    counts = []
    if until.failures is not None:
        counts.append(f"{since.failures:,} of {count_of(until.failures, 'failure')}")
    if until.an_hour is not None:
        counts.append(f"{since.in_last_hour:,} of {until.an_hour:,} in the last hour")
    if until.people is not None:
        counts.append(f"{since.people:,} of {until.people:,} people")
    return ", ".join(counts)


def as_another(names: Collection[str]) -> tuple[Another, ...]:
    """Return those names that say in what another one, in one order."""
    return tuple(what for what in ANOTHER if what in names)


def _more(number: int, noun: str, plural: str | None = None) -> str:
    return f"{number:,} more {noun if number == 1 else plural or noun + 's'}"


def _when(time_ms: int) -> str:
    return minute_of(to_text(time_ms)) + " UTC"
