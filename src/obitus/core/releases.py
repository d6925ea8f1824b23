"""The order of an app's releases.

Semantic versions are ordered as Semantic Versioning 2.0.0, section 11, says; versions made of numbers (``1.4``, ``2026.04.01``,
``26.4-2``) by their numbers; commit hashes and free text by when they were first seen. A correction by hand overrides all of these.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache, total_ordering
from typing import Final

_SEMVER = re.compile(
    r"v?(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})"
    r"(?:-([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?"
)
# At least two numbers with dots or dashes between them; or a date of eight digits. A word after them is a stage.
_NUMBERS = re.compile(
    r"v?(\d{1,17}(?:[.-]\d{1,17}){1,5}|(?:19|20)\d{6})(?:[.\-_]?([A-Za-z][0-9A-Za-z.-]*))?(?:\+[0-9A-Za-z.-]+)?"
)
_CLOTHED = re.compile(r"(?:v|V|version[ _-]|release[ _-])(?=\d)")
_BEFORE = re.compile(
    r"^(?:a|b|c|m|alpha|beta|pre|preview|rc|cr|dev|snapshot|nightly|milestone|canary|test)\d*(?:[.\-]|$)", re.IGNORECASE
)
MOST_CHARACTERS: Final = 300


@total_ordering
@dataclass(frozen=True, eq=False)
class SemVer:
    """A parsed semantic version. Build metadata counts neither for order nor for equality."""

    numbers: tuple[int, int, int]
    pre_release: tuple[str, ...] = ()

    def _key(self) -> tuple[object, ...]:
        # A version without pre-release parts comes after all with them; numbers come before words.
        return (self.numbers, not self.pre_release, _parts(self.pre_release))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SemVer) and self._key() == other._key()

    def __lt__(self, other: SemVer) -> bool:
        return self._key() < other._key()

    def __hash__(self) -> int:
        return hash(self._key())


@dataclass(frozen=True, slots=True)
class DatedRelease:
    """A release: when it was first seen anywhere (Unix milliseconds), and the release after which a person put it."""

    version: str
    first_ms: int
    behind: str | None = None


@lru_cache(4096)
def canonical(version: str) -> str:
    """Return the one spelling of a release: ``v3.1.0``, ``release-3.1.0`` and `` 3.1.0 `` are all ``3.1.0``."""
    stripped = " ".join(version.split())[:MOST_CHARACTERS]
    bare = _CLOTHED.sub("", stripped, count=1) if _CLOTHED.match(stripped) else stripped
    return bare if bare != stripped and _NUMBERS.fullmatch(bare) is not None else stripped


def parse_semver(version: str) -> SemVer | None:
    """Return the version's parts, or None when it is no semantic version."""
    match = _SEMVER.fullmatch(version)
    if match is None:
        return None
    pre = tuple(match[4].split(".")) if match[4] else ()
    if any(p.isdigit() and len(p) > 1 and p[0] == "0" for p in pre):
        return None
    return SemVer((int(match[1]), int(match[2]), int(match[3])), pre)


def compare(left: str, right: str) -> int | None:
    """Return -1, 0 or 1 as ``left`` is older than, the same as or newer than ``right`` by their numbers; None when
    they have no order."""
    if left == right:
        return 0
    a, b = _numbers_of(left), _numbers_of(right)
    if a is None or b is None:
        return None
    return (a > b) - (a < b)


def in_order(releases: Iterable[DatedRelease]) -> list[DatedRelease]:
    """Return releases, oldest first.

    Those with numbers are in the order of their numbers, the others in that of their first seen time; the two lists
    are merged by that time. A release that a person put after another one comes right after it.
    """
    distinct = list({release.version: release for release in releases}.values())
    present = {release.version for release in distinct}
    placed = [release for release in distinct if release.behind in present and release.behind != release.version]
    behind: dict[str, list[DatedRelease]] = {}
    for release in placed:
        behind.setdefault(str(release.behind), []).append(release)
    free = [release for release in distinct if release not in placed]
    numbered = sorted(
        (r for r in free if _numbers_of(r.version)), key=lambda r: (_numbers_of(r.version), r.first_ms, r.version)
    )
    named = sorted((r for r in free if not _numbers_of(r.version)), key=lambda r: (r.first_ms, r.version))
    ordered: list[DatedRelease] = []
    i = j = 0
    while i < len(numbered) or j < len(named):
        if j == len(named) or (i < len(numbered) and numbered[i].first_ms <= named[j].first_ms):
            ordered.append(numbered[i])
            i += 1
        else:
            ordered.append(named[j])
            j += 1
    return _with_placed(ordered, behind) if placed else ordered


def _with_placed(ordered: Sequence[DatedRelease], behind: Mapping[str, list[DatedRelease]]) -> list[DatedRelease]:
    dated: list[DatedRelease] = []
    done: set[str] = set()
    waiting = list(reversed(ordered))
    # A cycle of corrections has no beginning: its members follow at the end, by when they were first seen.
    circle = sorted(
        (r for group in behind.values() for r in group), key=lambda r: (r.first_ms, r.version), reverse=True
    )
    waiting = circle + waiting
    while waiting:
        release = waiting.pop()
        if release.version in done:
            continue
        done.add(release.version)
        dated.append(release)
        waiting += sorted(behind.get(release.version, ()), key=lambda r: (r.first_ms, r.version), reverse=True)
    return dated


class ReleaseOrder:
    """The releases of one app in their order. ``places`` counts from 0, the oldest."""

    def __init__(self, releases: Iterable[DatedRelease]) -> None:
        self.releases = in_order(releases)
        self.places = {release.version: i for i, release in enumerate(self.releases)}

    def compare(self, left: str, right: str) -> int | None:
        """Return -1, 0 or 1 as ``left`` comes before, is, or comes after ``right``; None when they have no order. A
        release that has not been seen yet is compared by its numbers.
        """
        if left == right:
            return 0
        a, b = self.places.get(left), self.places.get(right)
        return (a > b) - (a < b) if a is not None and b is not None else compare(left, right)

    def first_ms(self, version: str | None) -> int | None:
        """Return when a release was first seen, or None when it has not been."""
        place = self.places.get(version) if version is not None else None
        return self.releases[place].first_ms if place is not None else None

    def before(self, version: str) -> list[str]:
        """Return the releases before one, the nearest first."""
        place = self.places.get(version)
        return [r.version for r in reversed(self.releases[:place])] if place is not None else []


def _numbers_of(version: str) -> tuple[object, ...] | None:
    """Return the sort key of a version made of numbers, or None when it is none."""
    semver = parse_semver(version)
    if semver is not None and not (
        _is_year(semver.numbers[0]) and semver.pre_release and semver.pre_release[0].isdigit()
    ):
        return ((*semver.numbers, 0, 0, 0), 0 if semver.pre_release else 1, _parts(semver.pre_release))
    match = _NUMBERS.fullmatch(version)
    if match is None:
        return None
    text = match[1]
    if len(text) == 8 and text.isdigit():
        text = f"{text[:4]}.{text[4:6]}.{text[6:]}"
    numbers = tuple(int(part) for part in re.split(r"[.-]", text))
    stage = match[2] or ""
    words = tuple(stage.split(".")) if stage else ()
    # A pre-release stage comes before the release; any other word (post, hotfix, p1) after it.
    rank = 1 if not stage else 0 if _BEFORE.match(stage) else 2
    return ((*numbers, *(0,) * (6 - len(numbers))), rank, _parts(words))


def _is_year(number: int) -> bool:
    return 1990 <= number <= 2199


def _parts(words: Iterable[str]) -> tuple[tuple[int, int, str], ...]:
    return tuple((0, int(w), "") if w.isascii() and w.isdigit() else (1, 0, w) for w in words)
