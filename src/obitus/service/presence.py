"""Who looks at which issue just now: kept in memory, and said to the others who look at it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Annotated, Final

from obitus.service.given import part
from obitus.service.live import Live

LASTS_S: Final = 45.0
"""So long somebody counts as looking who has not said so again."""
SAID_AGAIN_S: Final = 15.0
"""How often whoever looks should say so."""
MOST_OF_A_PERSON: Final = 20
"""Issues that one person looks at at once, in as many windows."""


class Presence:
    """Knows who looks at which issue. Whoever looks says so again and again; who stops is gone soon."""

    def __init__(self, live: Live, now_s: Callable[[], float] = time.monotonic) -> None:
        self._live, self._now_s = live, now_s
        self._lock = threading.Lock()
        self._until: dict[int, dict[str, float]] = {}
        """By issue and name, until when somebody counts as looking."""

    def looks(self, issue: int, name: str) -> list[str]:
        """Say that somebody looks at an issue; return all who do, by name."""
        with self._lock:
            now_s = self._now_s()
            before = self._there(issue, now_s)
            self._until.setdefault(issue, {}).pop(name, None)
            self._until[issue][name] = now_s + LASTS_S
            self._bound(name)
            there = self._there(issue, now_s)
        return self._announced(issue, before, there)

    def leaves(self, issue: int, name: str) -> list[str]:
        """Say that somebody looks at an issue no more; return who still does."""
        with self._lock:
            now_s = self._now_s()
            before = self._there(issue, now_s)
            self._until.get(issue, {}).pop(name, None)
            there = self._there(issue, now_s)
        return self._announced(issue, before, there)

    def _there(self, issue: int, now_s: float) -> list[str]:
        """Return who looks at an issue, and forget who did."""
        known = self._until.get(issue, {})
        for name in [name for name, until_s in known.items() if until_s <= now_s]:
            del known[name]
        if not known:
            self._until.pop(issue, None)
        return sorted(known)

    def _bound(self, name: str) -> None:
        """Let one person be at so many issues at most: the oldest go."""
        theirs = sorted((known[name], issue) for issue, known in self._until.items() if name in known)
        for _, issue in theirs[:-MOST_OF_A_PERSON]:
            del self._until[issue][name]
            if not self._until[issue]:
                del self._until[issue]

    def _announced(self, issue: int, before: list[str], there: list[str]) -> list[str]:
        if before != there:
            self._live.publish_from_thread({"type": "issue-looked-at", "issue": issue, "people": there}, narrowed=False)
        return there


ThePresence = Annotated[Presence, part("presence")]
