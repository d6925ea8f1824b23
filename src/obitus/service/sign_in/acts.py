"""The record of acts: what people did, and what strangers tried."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from typing import Annotated, Final, TypeVar

from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.notes import Notes
from obitus.store import people
from obitus.store.writer import Writer

QUIET_MS: Final = 5 * 60_000
Result = TypeVar("Result")


class Acts:
    """Carries out acts and records them, in one transaction."""

    def __init__(self, writer: Writer, clock: Clock) -> None:
        self._writer, self._clock = writer, clock
        self._tried = Notes()

    def do(
        self,
        person_id: int | None,
        act: str,
        subject: str | Callable[[Result], str],
        work: Callable[[sqlite3.Connection], Result],
    ) -> Result:
        """Carry out an act, record it, and return its result. ``subject`` is its object, or a function of the result
        where it is known only afterwards.
        """
        now_ms = self._clock.now_ms()

        def both(connection: sqlite3.Connection) -> Result:
            result = work(connection)
            people.note_act(
                connection, person_id, act, subject if isinstance(subject, str) else subject(result), now_ms
            )
            return result

        return self._writer.run(both)

    def note(self, person: people.Person | None, act: str, subject: str) -> None:
        """Record a refused attempt of a person."""
        self.do(person.id if person else None, act, subject, lambda _: None)

    def note_refusal(self, act: str, subject: str) -> None:
        """Record a refused attempt of a stranger, of equal ones only the first in five minutes: strangers must not fill the record."""
        if self._tried.note(f"{act} {subject}", act, subject, self._clock.now_ms(), quiet_ms=QUIET_MS):
            self.note(None, act, subject)


TheActs = Annotated[Acts, part("acts")]
