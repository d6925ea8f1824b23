"""Removes records over their time or beyond the room, the oldest first; and more where the disk is nearly full."""

from __future__ import annotations

import logging
import threading
import time
from pathlib import Path
from typing import Annotated, Final

from obitus.core.clock import DAY_MS, to_text
from obitus.core.days import UNDATED, day_text
from obitus.core.wording import count_of, minute_of
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.store import people, reserve, retention
from obitus.store.errors import StoreError, StoreFull
from obitus.store.records import Records
from obitus.store.retention import DayRemoval

FIRST_S: Final = 900.0
"""From the start of a service to the first removal, so that a changed setting can be corrected."""
EVERY_S: Final = 600.0
DISK_EVERY_S: Final = 20.0
"""Interval of checking the room of the disk: where it is short, records are removed at once."""
AWAY_MS: Final = 3 * DAY_MS
"""The longest time without a report, at a start, that is taken for granted. After more of it the machine's clock may
be wrong, and everything would look over its time."""
HELD_S: Final = 24 * 3600.0
"""How long after such a start nothing is removed by its age."""
REMOVED: Final = "removed evidence"

_log = logging.getLogger("obitus.service")


class Keeping:
    """One thread of its own, since a large day takes long to rewrite."""

    def __init__(self, records: Records, clock: Clock, data: Path) -> None:
        self._records, self._clock, self._data = records, clock, data
        self._stopping = threading.Event()
        self._clean: dict[int, str] = {}
        self._is_said = False
        """Whether it is logged that the disk is nearly full: once, not with each check."""
        self._held_until_s = 0.0
        self._away_days = self._days_without_reports()
        if self._away_days:
            self._held_until_s = time.monotonic() + HELD_S
            _log.warning("%s", self.why_held)
        self._thread = threading.Thread(target=self._keep, name="obitus-keeping", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Stop, after the present day."""
        self._stopping.set()
        self._thread.join()

    @property
    def why_held(self) -> str:
        """Why nothing is removed by its age at present, '' where it is."""
        left_s = self._held_until_s - time.monotonic()
        if left_s <= 0:
            return ""
        until = minute_of(to_text(self._clock.now_ms() + round(left_s * 1000)))
        return (
            f"There was no report for {count_of(self._away_days, 'day')} before this start. In case this machine's clock "
            f"is wrong, nothing is removed by its age before {until} UTC."
        )

    def _days_without_reports(self) -> int:
        """Return how many days before now the latest report was, 0 where that is not long."""
        latest_ms = max((day.latest_ms for day in self._records.days.known() if day.day != UNDATED), default=0)
        away_ms = self._clock.now_ms() - latest_ms
        return away_ms // DAY_MS if latest_ms and away_ms > AWAY_MS else 0

    def look(self) -> list[DayRemoval]:
        """Remove what is due; return the removals."""
        done = []
        by_age = not self.why_held
        due = retention.due(
            self._records, self._clock.now_ms(), most_bytes=self._room(), by_age=by_age, clean=self._clean
        )
        for step in due:
            if self._stopping.is_set():
                break
            try:
                freed = self._removed(step)
            except StoreError as error:
                _log.warning("%s could not be removed: %s", day_text(step.day), error)
                continue
            self._note(f"{day_text(step.day)}: {step.why}, {freed:,} bytes")
            done.append(step)
        if not reserve.lacking(self._data):
            reserve.keep(self._data)
        return done

    def _removed(self, step: DayRemoval) -> int:
        """Carry out a removal, with the reserved room where there is no other; return how many bytes were freed."""
        try:
            return retention.remove(self._records, step, self._clock.now_ms())
        except StoreFull:
            if not reserve.let_go(self._data):
                raise
            return retention.remove(self._records, step, self._clock.now_ms())

    def _note(self, said: str) -> None:
        """Record a removal."""
        now_ms = self._clock.now_ms()
        self._records.writer.run(lambda c: people.note_act(c, None, REMOVED, said, now_ms))

    def _room(self) -> int | None:
        """Return how many bytes the days may take: the setting, or less where the disk is nearly full."""
        most_bytes = retention.within(self._records.reader)
        lacking = reserve.lacking(self._data)
        if not lacking:
            self._is_said = False
            return most_bytes
        if not self._is_said:
            _log.warning("the disk is nearly full, it lacks %s bytes: the oldest evidence is removed", f"{lacking:,}")
            self._is_said = True
        room = max(0, retention.bytes_of_days(self._records) - lacking)
        return room if most_bytes is None else min(most_bytes, room)

    def _keep(self) -> None:
        next_s = time.monotonic() + FIRST_S
        while not self._stopping.wait(DISK_EVERY_S):
            try:
                if not reserve.lacking(self._data):
                    reserve.keep(self._data)
                    if time.monotonic() < next_s:
                        continue
                next_s = time.monotonic() + EVERY_S
                self.look()
            except Exception:
                _log.exception("records over their time could not be removed; it is tried again")


TheKeeping = Annotated[Keeping, part("keeping")]
