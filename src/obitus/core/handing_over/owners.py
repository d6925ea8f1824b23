"""``CODEOWNERS`` files: who owns which files of a repository.

A line holds a pattern, written as in a ``gitignore`` file (git-scm.com/docs/gitignore, "Pattern format"), and the owners of what
it matches: ``@somebody``, ``@company/team`` or a mail address. Of several lines that match, the last one counts. Two
rules of ``gitignore`` do not hold, as is usual for these files: ``!`` does not negate a pattern, and ``docs/*``
matches files in the folder itself, and nothing deeper. A line with ``!``, and one that is not valid, is left out
with a remark.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fnmatch import translate
from functools import lru_cache
from typing import Final

MOST_LINES: Final = 50_000
MOST_BYTES: Final = 1_500_000
MOST_REMARKS: Final = 20
MOST_SEGMENTS: Final = 30
_LONGEST_LINE: Final = 2_000
# A backslash keeps the blank or the number sign after it in the pattern.
_WORDS: Final = re.compile(r"(?:\\.|[^\s\\])+")
_OWNER: Final = re.compile(r"@[^\s@]{1,200}|[^\s@]{1,100}@[^\s@]{1,100}")
_SECTION: Final = re.compile(r"\^?\[[^\]]*\](?:\[\d+\])?")
_SEPARATORS: Final = re.compile(r"[/\\]+")
_STARS: Final = re.compile(r"\*+")
_NOT_A_LETTER: Final = re.compile(r"[\W_]+")


@dataclass(frozen=True, slots=True)
class OwnedBy:
    """A line of such a file."""

    number: int
    """Of the line, from 1."""
    pattern: str
    owners: tuple[str, ...]
    """As they are written; none where the line says that its files have no owner."""


class Owners:
    """A parsed file. ``remarks`` names the lines that were left out, and why."""

    def __init__(self, lines: Sequence[OwnedBy], remarks: Sequence[str]) -> None:
        self.lines, self.remarks = tuple(lines), tuple(remarks)
        self._rules = [(line, _Rule(line.pattern)) for line in reversed(lines)]

    def line_for(self, path: str, beneath: str = "") -> OwnedBy | None:
        """Return the line that decides the owner of a file, None where there is none. ``path`` is that of a stack.
        An absolute one is looked up from each of its folders, since the repository's root is not known; a relative
        one begins in ``beneath``, a folder of the repository ('' for its root).
        """
        parts = _parts(path)
        if not parts or len(parts) > MOST_SEGMENTS:
            return None
        start = _parts(beneath)
        absolute = path[:1] in "/\\" or path[1:2] == ":"
        tails = [parts[at:] for at in range(len(parts))] if absolute else [parts]
        candidates = [start + tail for tail in tails]
        named = set(parts) | set(start)
        for line, rule in self._rules:
            if rule.may_match(named) and any(rule.matches(candidate) for candidate in candidates):
                return line
        return None


def read_owners(text: str) -> Owners:
    """Parse a file; lines that are no pattern with owners become remarks."""
    lines: list[OwnedBy] = []
    remarks: list[str] = []
    for number, written in enumerate(text.splitlines(), 1):
        if number > MOST_LINES:
            remarks.append(f"Only the first {MOST_LINES:,} lines were read.")
            break
        line_read = _line(number, written)
        if isinstance(line_read, OwnedBy):
            lines.append(line_read)
        elif line_read is not None and len(remarks) < MOST_REMARKS:
            remarks.append(f"Line {number} is left out: {line_read}.")
    return Owners(lines, remarks)


def _line(number: int, written: str) -> OwnedBy | str | None:
    """Return the parsed line, the reason why it is left out, or None for an empty one."""
    stripped = written.strip()
    if not stripped or stripped.startswith("#"):
        return None
    if len(stripped) > _LONGEST_LINE:
        return f"it is longer than {_LONGEST_LINE:,} characters"
    if stripped.startswith("!"):
        return "a pattern cannot be turned round with !"
    if _SECTION.match(stripped):
        return "it is the head of a section; the lines below it count unchanged"
    words = _WORDS.findall(stripped)
    if not words:
        return "it holds no pattern"
    pattern = words[0]
    owners: list[str] = []
    for word in words[1:]:
        if word.startswith("#"):
            break
        if not _OWNER.fullmatch(word):
            return f"{word[:60]!r} is no owner: write @name, @company/team or a mail address"
        owners.append(word)
    if "[" in pattern:
        return "a pattern cannot have brackets"
    if not 0 < len(_parts(pattern)) <= MOST_SEGMENTS:
        return "its pattern names no file or folder"
    return OwnedBy(number, pattern, tuple(owners))


class _Rule:
    """A compiled pattern."""

    __slots__ = ("_anchored", "_folder", "_literal", "_only_direct", "_segments")

    def __init__(self, pattern: str) -> None:
        plain = pattern.replace("\\ ", " ").replace("\\#", "#")
        self._folder = plain.endswith("/")
        self._anchored = "/" in plain.rstrip("/")
        self._segments = tuple(part for part in plain.split("/") if part)
        self._only_direct = self._anchored and self._segments[-1] == "*" and not self._folder
        plain_ones = [part for part in self._segments if "*" not in part and "?" not in part]
        # Nearly every pattern has a name that most paths do not have.
        self._literal = max(plain_ones, key=len, default=None)

    def may_match(self, names: set[str]) -> bool:
        """Return whether a path with these names may match."""
        return self._literal is None or self._literal in names

    def matches(self, path: Sequence[str]) -> bool:
        """Return whether the pattern matches a file, or a folder that contains it."""
        if not self._anchored:
            names = path[:-1] if self._folder else path
            return any(_segment_matches(self._segments[0], name) for name in names)
        for used in self._ends(path):
            if used == len(path):
                if not self._folder:
                    return True
            elif not self._only_direct:
                return True
        return False

    def _ends(self, path: Sequence[str]) -> Iterator[int]:
        """Yield how many names at the beginning of a path the whole pattern can match: each number at most once."""
        reached = {0}
        for segment in self._segments:
            if segment == "**":
                reached = set(range(min(reached), len(path) + 1))
            else:
                reached = {at + 1 for at in reached if at < len(path) and _segment_matches(segment, path[at])}
            if not reached:
                return
        if self._segments[-1] == "**":
            # Everything inside, and not the folder itself.
            reached.discard(min(reached))
        yield from sorted(reached)


def _segment_matches(pattern: str, name: str) -> bool:
    if "*" not in pattern and "?" not in pattern:
        return pattern == name
    return pattern == "*" or _compiled(pattern).match(name) is not None


@lru_cache(4096)
def _compiled(pattern: str) -> re.Pattern[str]:
    # Adjacent stars mean one star, and would make matching slow.
    return re.compile(translate(_STARS.sub("*", pattern)))


def _parts(path: str) -> list[str]:
    return [part for part in _SEPARATORS.split(path) if part and part != "."]


def who_is_meant(owner: str, people: Sequence[str], names: dict[str, str]) -> str | None:
    """Return the person behind an owner, None where nobody is known. ``names`` maps owners, in lower case, to
    people. For an owner that it does not have, ``@ida-moss`` and ``ida.moss@skerry.example``
    are Ida Moss, if only one of ``people`` is written like that.
    """
    named = names.get(owner.lower())
    if named is not None:
        return named
    if "/" in owner:
        # A team: a person has to be named for it.
        return None
    wanted = letters_of(owner.removeprefix("@").partition("@")[0])
    alike = [name for name in people if letters_of(name) == wanted]
    return alike[0] if wanted and len(alike) == 1 else None


def letters_of(name: str) -> str:
    """Return a normalized name: ``Ida Moss`` and ``ida-moss`` are ``idamoss``."""
    return _NOT_A_LETTER.sub("", name).casefold()
