"""The client's own log: every trouble is said once, in words that say what to do. Saying it never raises."""

from __future__ import annotations

import logging
from typing import Final

from obitus.client import state
from obitus.client.whose import is_the_apps

log: Final = logging.getLogger("obitus")


def is_ours() -> bool:
    """Whether this thread works for the client at this moment."""
    return getattr(state.ours, "working", False)


def warn(text: str) -> None:
    """Write a warning to the client's log. A handler of the app that raises is no reason to raise into the app."""
    try:
        log.warning("%s", text)
    except Exception as error:
        if is_the_apps(error):
            raise


class Sayings:
    """Says a trouble once, not each time it is met, and remembers the latest one."""

    def __init__(self) -> None:
        self._said: set[str] = set()
        self.latest: str | None = None
        self._mute = False

    def mute(self) -> None:
        """Remember troubles, and write none of them."""
        self._mute = True

    def say(self, what: str, text: str) -> None:
        """Say a trouble, unless it was said before."""
        self.latest = text
        if what not in self._said and not self._mute:
            self._said.add(what)
            warn(text)

    def forget(self, what: str) -> bool:
        """A trouble is over: it may be said again; return whether it was said."""
        self.latest = None
        if what in self._said:
            self._said.discard(what)
            return True
        return False
