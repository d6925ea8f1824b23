"""When a message may go out: quiet hours by zone, silences, the limit per hour, and retries."""

from __future__ import annotations

import random
import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from typing import Final
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS

DAYS: Final = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
TOGETHER_MS: Final = 5 * MINUTE_MS
"""Further firings about an issue within this time after a message are collected into one."""
FIRST_PAUSE_S: Final = 2.0
LONGEST_PAUSE_S: Final = 1800.0
GIVEN_UP_MS: Final = DAY_MS
"""How long a message is tried."""
_SPAN: Final = re.compile(r"(\d{1,2}):(\d{2})\s*-\s*(\d{1,2}):(\d{2})")
_AT: Final = re.compile(r"(?:(mon|tue|wed|thu|fri|sat|sun)\s+)?(\d{1,2}):(\d{2})")


class PacingTrouble(ValueError):
    """The text is no valid span of hours or no zone; says what is expected."""


@dataclass(frozen=True, slots=True)
class QuietHours:
    """Quiet hours of a day, by a person's own clock."""

    zone: ZoneInfo
    start: time
    end: time
    """Before the start where it is on the next day."""
    days: frozenset[int]
    """Weekdays, 0 for Monday, on which such a span begins."""

    def ends_ms(self, now_ms: int) -> int | None:
        """Return the end of the quiet hours that contain a time, None outside of all."""
        now = datetime.fromtimestamp(now_ms / 1000, self.zone)
        # Quiet hours that began yesterday may last until this morning.
        for back in (0, 1):
            day = now.date() - timedelta(days=back)
            if day.weekday() not in self.days:
                continue
            begins = datetime.combine(day, self.start, self.zone)
            over = day + timedelta(days=1) if self.end <= self.start else day
            ends = datetime.combine(over, self.end, self.zone)
            # In UTC: Python compares times of one zone by the clock on the wall, which shows an hour twice in autumn.
            if begins.astimezone(UTC) <= now.astimezone(UTC) < ends.astimezone(UTC):
                return round(ends.timestamp() * 1000)
        return None


def read_zone(name: str) -> ZoneInfo:
    """Return a zone of the IANA database by its name; raises PacingTrouble."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise PacingTrouble(f"{name[:60]!r} is no time zone. Name one such as Europe/Oslo or UTC.") from None


def read_quiet_hours(text: str, zone: str) -> QuietHours:
    """Parse ``22:00-07:00``, ``sat,sun 00:00-00:00``; raises PacingTrouble."""
    days, _, hours = text.strip().rpartition(" ")
    match = _SPAN.fullmatch(hours)
    try:
        if match is None:
            raise ValueError
        start, end = time(int(match[1]), int(match[2])), time(int(match[3]) % 24, int(match[4]))
        named = [DAYS.index(day) for day in days.lower().replace(" ", "").split(",")] if days else list(range(7))
    except ValueError:
        raise PacingTrouble(
            f"{text[:60]!r} are no hours. Say 22:00-07:00, or with days: sat,sun 00:00-24:00."
        ) from None
    return QuietHours(read_zone(zone), start, end, frozenset(named))


@dataclass(frozen=True, slots=True)
class Silence:
    """A time in which rules send nothing, of an app, an issue or a rule, or of all."""

    id: int
    from_ms: int
    until_ms: int
    rule: str | None
    app: str | None
    environment: str | None
    issue: int | None

    def covers(
        self, rule: str, now_ms: int, *, apps: Collection[str], environments: Collection[str], issue: int | None
    ) -> bool:
        """Whether it silences a firing. A firing without a known app is silenced only by a silence of all apps."""
        return (
            self.from_ms <= now_ms < self.until_ms
            and self.rule in (None, rule)
            and (self.app is None or self.app in apps)
            and (self.environment is None or self.environment in environments)
            and self.issue in (None, issue)
        )


def pause_s(tries: int, dice: random.Random) -> float:
    """Return how long to wait before the next try: twice as long each time, up to half an hour, and up to a quarter
    more at random, so that many messages do not come back at one moment.
    """
    return min(LONGEST_PAUSE_S, FIRST_PAUSE_S * 2.0 ** min(tries - 1, 20)) * (1 + dice.random() / 4)


def is_above_rate(sent_ms: Sequence[int], now_ms: int, an_hour: int) -> bool:
    """Whether the limit of messages in the last hour is reached."""
    return sum(1 for time_ms in sent_ms if time_ms > now_ms - HOUR_MS) >= an_hour


def next_digest_ms(at: str, zone: str, now_ms: int) -> int:
    """Return when a digest is due next: ``08:00`` each day, ``mon 08:00`` each week; raises PacingTrouble."""
    match = _AT.fullmatch(at.strip().lower())
    if match is None or int(match[2]) > 23 or int(match[3]) > 59:
        raise PacingTrouble(f"{at[:40]!r} is no time of day. Say 08:00 for each day, mon 08:00 for each week.")
    where = read_zone(zone)
    now = datetime.fromtimestamp(now_ms / 1000, where)
    # Today's may be over, and that of the same weekday is seven days later.
    for ahead in range(9):
        day = now.date() + timedelta(days=ahead)
        if match[1] is not None and day.weekday() != DAYS.index(match[1]):
            continue
        due = datetime.combine(day, time(int(match[2]), int(match[3])), where)
        due_ms = round(due.timestamp() * 1000)
        if due_ms > now_ms:
            return due_ms
    raise AssertionError("one of nine days is the next")


def is_weekly(at: str) -> bool:
    """Whether a digest is weekly."""
    match = _AT.fullmatch(at.strip().lower())
    return match is not None and match[1] is not None
