"""The client's own log: each problem is logged once, in words that say what to do. Logging never raises."""

from __future__ import annotations

import logging
from typing import Final

from obitus.client import state
from obitus.client.exception_origin import is_the_apps

log: Final = logging.getLogger("obitus")


def is_ours() -> bool:
    """Whether this thread runs code of the client at this moment."""
    return getattr(state.ours, "working", False)


def warn(text: str) -> None:
    """Write a warning to the client's log. Exceptions of the app's handlers are swallowed."""
    try:
        log.warning("%s", text)
    except Exception as error:
        if is_the_apps(error):
            raise


class Sayings:
    """Logs a problem once, not each time that it occurs, and remembers the latest one."""

    def __init__(self) -> None:
        self._said: set[str] = set()
        self.latest: str | None = None
        self._mute = False

    def mute(self) -> None:
        """Remember problems without logging them."""
        self._mute = True

    def say(self, what: str, text: str) -> None:
        """Log a problem, unless it was logged before."""
        self.latest = text
        if what not in self._said and not self._mute:
            self._said.add(what)
            warn(text)

    def forget(self, what: str) -> bool:
        """A problem is over, and will be logged if it occurs again; return whether it was logged."""
        self.latest = None
        if what in self._said:
            self._said.discard(what)
            return True
        return False
