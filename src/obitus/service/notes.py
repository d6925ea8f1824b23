"""The latest note for each of many names, such as an app's latest refusal. Bounded; in memory."""

from __future__ import annotations

from typing import Final

MOST: Final = 1000


class Notes:
    """The latest note by name. Safe to use from several threads."""

    def __init__(self) -> None:
        self._by_name: dict[str, tuple[int, str, str]] = {}

    def note(self, name: str, slug: str, reason: str, now_ms: int, *, quiet_ms: int = 60_000) -> bool:
        """Store the latest note of a name; return whether it differs from the one before, or that was long ago."""
        before = self._by_name.pop(name, None)
        self._by_name[name] = (now_ms, slug, reason)
        if len(self._by_name) > MOST:
            self._by_name.pop(next(iter(self._by_name)), None)
        return before is None or before[1] != slug or abs(now_ms - before[0]) > quiet_ms

    def latest(self, name: str) -> tuple[int, str, str] | None:
        """Return (time, slug, reason) of the latest."""
        return self._by_name.get(name)
