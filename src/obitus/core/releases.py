"""The order of releases: Semantic Versioning 2.0.0, section 11. A leading ``v`` is allowed."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import total_ordering

_SEMVER = re.compile(
    r"v?(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})"
    r"(?:-([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?"
)


@total_ordering
@dataclass(frozen=True, eq=False)
class SemVer:
    """A parsed semantic version. Build metadata takes no part in the order, nor in equality."""

    numbers: tuple[int, int, int]
    pre_release: tuple[str, ...] = ()

    def _key(self) -> tuple[object, ...]:
        # A version without pre-release parts comes after all that have some; numbers come before words.
        parts = tuple((0, int(p), "") if p.isascii() and p.isdigit() else (1, 0, p) for p in self.pre_release)
        return (self.numbers, not self.pre_release, parts)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SemVer) and self._key() == other._key()

    def __lt__(self, other: SemVer) -> bool:
        return self._key() < other._key()

    def __hash__(self) -> int:
        return hash(self._key())


def parse_semver(version: str) -> SemVer | None:
    """Return the version's parts, or None when it is no semantic version."""
    found = _SEMVER.fullmatch(version)
    if found is None:
        return None
    pre = tuple(found[4].split(".")) if found[4] else ()
    if any(p.isdigit() and len(p) > 1 and p[0] == "0" for p in pre):
        return None
    return SemVer((int(found[1]), int(found[2]), int(found[3])), pre)


def compare(left: str, right: str) -> int | None:
    """Return -1, 0 or 1 as ``left`` is older than, the same as or newer than ``right``; None when nobody can tell."""
    if left == right:
        return 0
    a, b = parse_semver(left), parse_semver(right)
    if a is None or b is None:
        return None
    return (a > b) - (a < b)


def sort_key(version: str, first_ms: int) -> tuple[object, ...]:
    """Return a key that puts semantic versions in their order and all others before them, by first sight."""
    parsed = parse_semver(version)
    return (0, first_ms, version) if parsed is None else (1, parsed, version)
