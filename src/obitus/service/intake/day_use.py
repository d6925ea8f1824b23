"""The bound of a key for a day, and its use today: shown before the bound is reached, and refused beyond it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from obitus.core.clock import DAY_MS
from obitus.service.clock import Clock
from obitus.service.problems import Problem
from obitus.service.settings import Limits
from obitus.store import key_use
from obitus.store.database import Reader
from obitus.store.rows.apps import Key, KnownKey

PART_OF_PAGES: Final = 10
"""Share of the bound for keys for pages, which everybody can read."""
FORETOLD_FROM: Final = 0.2
"""Part of the day's bound from which an estimate is shown of when it will be reached."""
AGAIN_S: Final = 300
"""The longest ``Retry-After``: an owner may raise the bound meanwhile."""


@dataclass(slots=True)
class Use:
    """The use of a key today, its bound, and about when that will be reached."""

    reports: int
    bytes: int
    most_reports: int
    most_bytes: int
    full_ms: int | None = None
    """None where the day probably ends before."""

    @property
    def part(self) -> float:
        """The used part of the nearer bound: 1 where it is reached."""
        return max(self.reports / self.most_reports, self.bytes / self.most_bytes)


class DayUse:
    """Counts the use of each key in a day of UTC, by the service's clock. Used on the event loop only."""

    def __init__(self, reader: Reader, clock: Clock, limits: Limits) -> None:
        self._clock, self._limits = clock, limits
        self._day = clock.now_ms() // DAY_MS
        self._came = {key: (row.reports, row.bytes) for key, row in key_use.of_day(reader, self._day).items()}

    @property
    def today(self) -> int:
        """The present day."""
        day = self._clock.now_ms() // DAY_MS
        if day != self._day:
            self._day, self._came = day, {}
        return day

    def add(self, key_id: int, reports: int, size: int) -> None:
        """Count stored reports of a key."""
        _ = self.today
        had = self._came.get(key_id, (0, 0))
        self._came[key_id] = had[0] + reports, had[1] + size

    def of(self, key: Key | KnownKey) -> Use:
        """Return the use of a key today."""
        begin_ms = self.today * DAY_MS
        reports, size = self._came.get(key.id, (0, 0))
        part = PART_OF_PAGES if key.origins else 1
        use = Use(
            reports, size,
            key.reports_a_day or self._limits.reports_a_day_of_a_key // part,
            key.bytes_a_day or self._limits.bytes_a_day_of_a_key // part,
        )  # fmt: skip
        if use.part >= FORETOLD_FROM:
            now_ms = self._clock.now_ms()
            full_ms = now_ms if use.part >= 1 else begin_ms + round((now_ms - begin_ms) / use.part)
            use.full_ms = full_ms if full_ms < begin_ms + DAY_MS else None
        return use

    def check(self, key: KnownKey) -> None:
        """Refuse a request of a key that has reached its bound; raises a problem."""
        use = self.of(key)
        if use.part < 1:
            return
        ends_s = DAY_MS // 1000 - self._clock.now_ms() % DAY_MS // 1000
        what = (
            f"{use.most_reports:,} reports" if use.reports >= use.most_reports else f"{use.most_bytes:,} bytes as sent"
        )
        raise Problem(
            "day-full",
            f"The day's bound of this key of {key.app} is reached: {what}. Raise the bound in Set-up, or wait for midnight, UTC.",
            retry_after_s=min(AGAIN_S, ends_s),
        )
