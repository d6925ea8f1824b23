"""Which exceptions were reported already: once while they are raised through many places, and again when they are raised again.

Nothing is put on the exception: an app may show or store what it holds. An exception is recognised by its id while
it lives, together with its traceback and its run at that moment.
"""

from __future__ import annotations

import weakref
from collections import deque
from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING, Any, Final

from obitus.client import runs
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import is_ours
from obitus.client.native import monotonic

if TYPE_CHECKING:
    from obitus.client.alike import Form

MOST_REMEMBERED: Final = 300
MOST_NOTED: Final = 20
NOTED_S: Final = 5.0


class Sighting:
    """One exception that was reported, at the moment when it was."""

    __slots__ = ("_alive", "_head", "_raised", "_runs", "form", "handled", "report_id")

    def __init__(self, error: BaseException, run: runs.RunState | None, *, handled: bool) -> None:
        self._alive = _identity(error)
        self._head = id(_first_of_the_app(error.__traceback__))
        self._raised = _times_raised(error.__traceback__)
        # Numbers: a run holds its request and trail, and must not be kept alive for this.
        self._runs: list[int] = []
        while run is not None:
            self._runs.append(run.number)
            run = run.around
        self.handled = handled
        self.report_id: str | None = None
        """None where it was only counted."""
        self.form: Form | None = None

    def is_of(self, error: BaseException) -> bool:
        """Whether it is of this very object, and not of an earlier one at the same address."""
        alive = self._alive
        return (alive() if isinstance(alive, weakref.ref) else alive) is (
            error if isinstance(alive, weakref.ref) else error.__dict__
        )

    def is_the_same_raise(self, error: BaseException, run: runs.RunState | None) -> bool:
        """Whether the exception is still being raised since then, in the same run or in one around it."""
        if run is not None and run.number not in self._runs:
            # Every run is inside the process; a run is inside itself and those around it.
            return False
        traceback = error.__traceback__
        while traceback is not None and id(traceback) != self._head:
            traceback = traceback.tb_next
        if traceback is None and self._head != id(None):
            # A new traceback, as a constant gets by ``raise X.with_traceback(None)``.
            return False
        # An exception that is raised again keeps its old traceback behind the new one: the place of the raise is in it twice.
        return _times_raised(error.__traceback__) <= self._raised


class Sightings:
    """The latest sightings, bounded. No lock: two threads at the same moment lose at most one sighting."""

    def __init__(self) -> None:
        self._sightings: dict[int, Sighting] = {}
        self._noted: deque[tuple[str, str, float]] = deque(maxlen=MOST_NOTED)

    def note(self, kind: str, message: str) -> None:
        """Remember the message of a failure, for log records of it that come just after."""
        self._noted.append((kind, message, monotonic()))

    def has_noted(self, kind: str, message: str) -> bool:
        """Whether a failure with this message was reported a moment ago."""
        since_s = monotonic() - NOTED_S
        return any(
            (its_kind, its_message) == (kind, message) and at_s > since_s
            for its_kind, its_message, at_s in list(self._noted)
        )

    def find(self, error: BaseException, run: runs.RunState | None) -> Sighting | None:
        """Return the sighting of an exception that is still being raised, None where it is new."""
        sighting = self._sightings.get(id(error))
        if sighting is None or not sighting.is_of(error):
            return None
        return sighting if sighting.is_the_same_raise(error, run) else None

    def add(self, error: BaseException, run: runs.RunState | None, *, handled: bool) -> Sighting:
        """Remember an exception that is being reported."""
        sightings = self._sightings
        sighting = Sighting(error, run, handled=handled)
        sightings.pop(id(error), None)
        sightings[id(error)] = sighting
        while len(sightings) > MOST_REMEMBERED:
            try:
                del sightings[next(iter(sightings))]
            except (KeyError, RuntimeError, StopIteration) as interrupted:
                if is_the_apps(interrupted):
                    raise
                break
        return sighting


def _identity(error: BaseException) -> Callable[[], object] | dict[str, Any]:
    """Return an object that distinguishes an exception from a later one at the same address, without keeping it or
    its frames alive."""
    try:
        return weakref.ref(error)
    except TypeError as interrupted:
        if is_the_apps(interrupted):
            raise
        # The built-in types take no weak references. Their dictionary, empty as a rule, is the object's own.
        return error.__dict__


def _first_of_the_app(traceback: TracebackType | None) -> TracebackType | None:
    """Return where a traceback begins once the client's frames are taken out of it."""
    while traceback is not None and is_ours(traceback):
        traceback = traceback.tb_next
    return traceback


def _times_raised(traceback: TracebackType | None) -> int:
    if traceback is None:
        return 0
    places = []
    while traceback is not None:
        places.append((traceback.tb_frame.f_code, traceback.tb_lasti))
        traceback = traceback.tb_next
    code, instruction = places[-1]
    return sum(found is code and at == instruction for found, at in places)
