"""Parses the output of ``git log --patch --unified=0`` into commits: places and names of the changes, and no source.
Line numbers are those of the release: lines touched by an earlier commit are shifted by every later one.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Final

from obitus.core.changes.commits import Commit, Range, Touched

MARK: Final = "\x01commit\x01"
FORMAT: Final = f"{MARK.replace(chr(1), '%x01')}%H%x01%at%x01%an%x01%s"
MOST_FILES: Final = 1000
MOST_RANGES: Final = 300
MOST_NAMES: Final = 100
MOST_MOVES: Final = 500
"""The number of later commits to the same file by which lines are shifted; beyond that they keep their numbers."""

_HUNK = re.compile(r"^@@@*+ (-\S++) (?:-\S++ )*+\+(\d++)(?:,(\d++))?+ @@++ ?+(.*)$")
_OLD = re.compile(r"-(\d+)(?:,(\d+))?")
# How the languages begin a function, a class or a constant, with the name as group.
_NAMES = (
    re.compile(r"^\s*+(?:(?:export|default|public|private|protected|internal|static|final|abstract|override|open|suspend|sealed|async|unsafe|extern|inline|pub(?:\([^)\n]{0,80}\))?|const|virtual|readonly)\s++)*+"
               r"(?:def|class|func|function\*?|fn|fun|sub|struct|enum|trait|interface|module|impl|object|record|type|namespace)\s++(?:\([^)\n]{0,300}\)\s*+)?(?:self\.)?((?!\d)[\w$]++)"),
    re.compile(r"^\s*+(?:export\s++)?(?:const|let|var|val|static)\s++(?:mut\s++)?((?!\d)[\w$]++)\s*+(?::[^=]++)?="),
    re.compile(r"^((?!\d)\w++)\s*+(?::[^=]++)?=(?!=)"),
    re.compile(r"^\s*+(?:(?:public|private|protected|internal|static|final|abstract|override|virtual|async|synchronized|native)\s{1,20}){1,6}[\w<>\[\],.? ]{1,200}\s((?!\d)\w++)\s*+\("),
    re.compile(r"^\s*+(?:async\s++|static\s++|get\s++|set\s++|#)?((?!\d)[\w$]++)\s*+\([^)]*+\)\s*+\{\s*+$"),
)  # fmt: skip
_NO_NAME: Final = frozenset(
    [
        "if",
        "for",
        "while",
        "switch",
        "catch",
        "else",
        "return",
        "with",
        "function",
        "elif",
        "try",
        "do",
        "new",
        "throw",
        "typeof",
    ]
)


@dataclass
class _Change:
    """One commit's hunks in one file, as (first line before, lines before, first line after, lines after)."""

    path: str
    before_path: str
    hunks: list[tuple[int, int, int, int]] = field(default_factory=list)
    names: dict[str, None] = field(default_factory=dict)


@dataclass
class _Read:
    commit: Commit
    changes: list[_Change] = field(default_factory=list)


def names_in(line: str) -> list[str]:
    """Return the function, class or constant that begins on a line of source, if any."""
    for pattern in _NAMES:
        match = pattern.match(line)
        if match is not None and match[1] not in _NO_NAME:
            return [match[1]]
    return []


def commits_from(lines: Iterable[str]) -> list[Commit]:
    """Parse commits, oldest first; file names must be unquoted (``core.quotePath=off``)."""
    read = list(_read(lines))
    return [
        Commit(commit.commit.id, commit.commit.time_ms, commit.commit.author, commit.commit.subject, tuple(files))
        for commit, files in zip(read, _moved_along(read), strict=True)
    ]


def _read(lines: Iterable[str]) -> Iterator[_Read]:
    current: _Read | None = None
    change: _Change | None = None
    before_path = ""
    in_hunk = False
    for raw in lines:
        line = raw.rstrip("\r\n")
        if line.startswith(MARK):
            if current is not None:
                yield current
            current, change, in_hunk = _Read(_commit(line)), None, False
        elif current is None:
            continue
        elif line.startswith("diff --"):
            change, before_path, in_hunk = None, "", False
            path = _path_of(line)
            if path and len(current.changes) < MOST_FILES:
                change = _Change(path, path)
                current.changes.append(change)
        elif change is None:
            continue
        elif (found := _HUNK.match(line)) is not None and line.startswith("@@"):
            in_hunk = True
            _hunk(change, found)
        elif not in_hunk:
            if line.startswith(("rename from ", "copy from ")):
                before_path = _plain(line.partition(" from ")[2])
                change.before_path = before_path if line.startswith("rename") else change.path
            elif line.startswith("rename to "):
                change.path = _plain(line.removeprefix("rename to "))
            elif line.startswith("--- ") and line != "--- /dev/null" and not before_path:
                change.before_path = _side(line)
            elif line.startswith("+++ ") and line != "+++ /dev/null":
                change.path = _side(line)
        elif line[:1] in "+-" and len(change.names) < MOST_NAMES:
            for name in names_in(line.lstrip("+-")):
                change.names[name] = None
    if current is not None:
        yield current


def _commit(line: str) -> Commit:
    parts = line.removeprefix(MARK).split("\x01", 3)
    commit_id, seconds, author, subject = [*parts, "", "", "", ""][:4]
    time_ms = int(seconds) * 1000 if re.fullmatch(r"-?\d{1,12}", seconds) else 0
    return Commit(commit_id[:64], time_ms, author[:200], subject[:300])


def _hunk(change: _Change, match: re.Match[str]) -> None:
    old = _OLD.match(match[1])
    if old is None:
        return
    before = (int(old[1]), int(old[2]) if old[2] is not None else 1)
    after = (int(match[2]), int(match[3]) if match[3] is not None else 1)
    if len(change.hunks) < MOST_RANGES:
        change.hunks.append((*before, *after))
    if len(change.names) < MOST_NAMES:
        for name in names_in(match[4]) or names_in(match[4].strip()):
            change.names[name] = None


def _path_of(line: str) -> str:
    """Return the path in a ``diff`` line; it may contain spaces, but then both sides are equal."""
    if line.startswith("diff --git "):
        rest = line.removeprefix("diff --git ")
        half = len(rest) // 2
        before, after = rest[:half], rest[half + 1 :]
        if before[2:] == after[2:]:
            return _plain(after[2:])
        return _plain(rest.rpartition(" b/")[2])
    return _plain(line.partition(" ")[2].partition(" ")[2])


def _side(line: str) -> str:
    path = _plain(line[4:].partition("\t")[0])
    return path[2:] if path[:2] in ("a/", "b/") else path


def _plain(path: str) -> str:
    return path.strip('"')[:1000]


def _moved_along(read: list[_Read]) -> list[list[Touched]]:
    """Shift the lines of each commit to their numbers after the last one, and its paths to their names then."""
    later: dict[str, list[_Change]] = {}
    moves: list[list[Touched]] = []
    for commit in reversed(read):
        files = []
        for change in commit.changes:
            path, changes = change.path, later.get(change.path, [])
            ranges: list[Range] = []
            for _, _, first, count in change.hunks:
                # With no line left, it is the place between this line and the next.
                ranges.append((first, first + count - 1) if count else (first + 1, first))
            for step in changes[:MOST_MOVES]:
                path = step.path
                ranges = [_move(place, step) for place in ranges]
            files.append(Touched(path, tuple(ranges), tuple(change.names)))
        for change in commit.changes:
            changes = later.pop(change.path, []) if change.before_path != change.path else later.get(change.path, [])
            later[change.before_path] = [change, *changes][:MOST_MOVES]
        moves.append(files)
    moves.reverse()
    return moves


def _move(place: Range, change: _Change) -> Range:
    first, last = place
    return _move_line(first, change, end=False), _move_line(last, change, end=True)


def _move_line(line: int, change: _Change, *, end: bool) -> int:
    shift = 0
    for before, lines_before, after, lines_after in change.hunks:
        begins = before if lines_before else before + 1
        if line < begins:
            break
        if line < begins + lines_before:
            # Inside of lines that were changed again: all of those.
            first = after if lines_after else after + 1
            return first + lines_after - 1 if end else first
        shift = (after if lines_after else after + 1) + lines_after - begins - lines_before
    return line + shift
