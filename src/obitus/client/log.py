"""The client's own log: every trouble is said once, in words that say what to do."""

from __future__ import annotations

import logging
import threading
from typing import Final

log: Final = logging.getLogger("obitus")

ours: Final = threading.local()
"""``ours.now`` is true on a thread that works for the client, so that what it does leaves no breadcrumbs."""


def is_ours() -> bool:
    """Whether this thread works for the client at this moment."""
    return getattr(ours, "now", False)


class Sayings:
    """Says a trouble once, not each time it is met, and remembers the latest one."""

    def __init__(self) -> None:
        self._said: set[str] = set()
        self.latest: str | None = None

    def say(self, what: str, text: str) -> None:
        """Say a trouble, unless it was said before."""
        self.latest = text
        if what not in self._said:
            self._said.add(what)
            log.warning("%s", text)

    def forget(self, what: str) -> bool:
        """A trouble is over: it may be said again; return whether it was said."""
        self.latest = None
        if what in self._said:
            self._said.discard(what)
            return True
        return False
