"""Who looks at which issue at the moment: kept in memory, and sent to the others who look at it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Annotated, Final

from obitus.service.dependencies import part
from obitus.service.live import Live

LASTS_S: Final = 45.0
"""How long a person counts as looking without a repetition."""
SAID_AGAIN_S: Final = 15.0
"""How often a looking person should repeat it."""
MOST_OF_A_PERSON: Final = 20
"""Most issues that one person looks at at once."""


class Presence:
    """The people who look at issues. A console repeats it while the issue is open; without a repetition it ends soon."""

    def __init__(self, live: Live, now_s: Callable[[], float] = time.monotonic) -> None:
        self._live, self._now_s = live, now_s
        self._lock = threading.Lock()
        self._until: dict[int, dict[str, float]] = {}
        """By issue and name, until when a person counts as looking."""

    def looks(self, issue: int, name: str) -> list[str]:
        """Add a person to an issue; return all who look at it, by name."""
        with self._lock:
            now_s = self._now_s()
            before = self._there(issue, now_s)
            self._until.setdefault(issue, {}).pop(name, None)
            self._until[issue][name] = now_s + LASTS_S
            self._bound(name)
            there = self._there(issue, now_s)
        return self._announced(issue, before, there)

    def leaves(self, issue: int, name: str) -> list[str]:
        """Remove a person from an issue; return who still looks at it."""
        with self._lock:
            now_s = self._now_s()
            before = self._there(issue, now_s)
            self._until.get(issue, {}).pop(name, None)
            there = self._there(issue, now_s)
        return self._announced(issue, before, there)

    def _there(self, issue: int, now_s: float) -> list[str]:
        """Return who looks at an issue, without expired ones."""
        until_by_name = self._until.get(issue, {})
        for name in [name for name, until_s in until_by_name.items() if until_s <= now_s]:
            del until_by_name[name]
        if not until_by_name:
            self._until.pop(issue, None)
        return sorted(until_by_name)

    def _bound(self, name: str) -> None:
        """Limit the issues of one person: the oldest are dropped."""
        theirs = sorted(
            (until_by_name[name], issue) for issue, until_by_name in self._until.items() if name in until_by_name
        )
        for _, issue in theirs[:-MOST_OF_A_PERSON]:
            del self._until[issue][name]
            if not self._until[issue]:
                del self._until[issue]

    def _announced(self, issue: int, before: list[str], there: list[str]) -> list[str]:
        if before != there:
            self._live.publish_from_thread({"type": "issue-looked-at", "issue": issue, "people": there}, narrowed=False)
        return there


ThePresence = Annotated[Presence, part("presence")]
