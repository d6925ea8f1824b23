"""Likely changes: the commits of a release, ranked by how closely they touch a failing stack; each with its reasons."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from obitus.core.changes.commits import Commit, LibraryChange, Touched
from obitus.core.frames import ChainLink, Frame
from obitus.core.wording import count_of

ON_THE_LINE: Final = 0.95
NEAR_THE_LINE: Final = 0.75
ON_THE_FUNCTION: Final = 0.65
NAMED_BY_THE_LINE: Final = 0.6
ON_THE_FILE: Final = 0.2
CLOSER_IN_THE_FILE: Final = 0.2
"""Added to the file's strength for a change at the line, half of it for one 28 lines away."""
THE_REST_COUNTS: Final = 0.2
"""Factor of all evidence but the strongest."""
LIBRARY: Final = 0.6
NEAR_LINES: Final = 3
FAR_LINES: Final = 200
MOST_FRAMES: Final = 30
MOST_REASONS: Final = 4
_WORD = re.compile(r"(?!\d)[\w$]+")
_COMMON_FILES: Final = frozenset(
    {"__init__", "index", "main", "mod", "lib", "app", "utils", "util", "helpers", "base", "types"}
)
_COMMON_WORDS: Final = frozenset(
    [
        "self",
        "this",
        "return",
        "raise",
        "throw",
        "new",
        "await",
        "if",
        "else",
        "for",
        "in",
        "not",
        "None",
        "null",
        "true",
        "false",
        "and",
        "or",
        "print",
        "get",
        "set",
    ]
)


@dataclass(frozen=True, slots=True)
class LikelyChange:
    """A commit, how closely it touches the stack (0 to 1), and why, the strongest reason first."""

    commit: Commit
    score: float
    reasons: tuple[str, ...]


def likely_changes(chain: Sequence[ChainLink], commits: Sequence[Commit], most: int = 5) -> list[LikelyChange]:
    """Return the commits that touch the stack, the most likely first; none where nothing touches it.

    The line counts more than the function, the function more than the file, and each counts more the nearer its
    frame is to the raise. A name that the failing line itself uses counts too: a changed helper may have returned
    already. A commit that touches very many files counts less.
    """
    frames = _from_the_raise(chain)
    ranked = []
    for commit in commits:
        evidence = [*_by_files(frames, commit), *_by_libraries(frames, commit.libraries)]
        if not evidence:
            continue
        evidence.sort(key=lambda one: -one[0])
        doubt = 1 - evidence[0][0]
        for strength, _ in evidence[1:6]:
            doubt *= 1 - THE_REST_COUNTS * strength
        spread = 1 + 0.25 * math.log2(1 + max(0, len(commit.files) - 3) / 8)
        reasons = tuple(dict.fromkeys(reason for _, reason in evidence))[:MOST_REASONS]
        ranked.append(LikelyChange(commit, round((1 - doubt) / spread, 4), reasons))
    ranked.sort(key=lambda one: (-one.score, -one.commit.time_ms, one.commit.id))
    return ranked[:most]


def named_by(chain: Sequence[ChainLink]) -> tuple[set[str], set[str]]:
    """Return the names of the own files on a stack, and the words on its lines: a commit that touches none of them is skipped."""
    own = [frame for link in chain for frame in link.frames if frame.own]
    return {_parts_of(frame.file)[-1] for frame in own if _parts_of(frame.file)}, set().union(*map(_words, own))


def _words(frame: Frame) -> set[str]:
    return {word for word in _WORD.findall(frame.code) if len(word) > 2 and word not in _COMMON_WORDS}


def _parts_of(file: str) -> list[str]:
    return [part for part in file.replace("\\", "/").partition("?")[0].split("/") if part]


def _from_the_raise(chain: Sequence[ChainLink]) -> list[tuple[Frame, float]]:
    """Return frames with their weights: those of the root cause from the raise outward, then those that its wrappers add."""
    frames: list[tuple[Frame, float]] = []
    seen: set[tuple[str, str, int | None]] = set()
    own = 0
    for link in reversed([link for link in chain if link.relation != "member"] or list(chain)):
        for frame in reversed(link.frames):
            key = (frame.file, frame.function, frame.line)
            if key in seen:
                continue
            seen.add(key)
            frames.append((frame, 1 / (1 + 0.35 * own)))
            own += frame.own
            if len(frames) >= MOST_FRAMES:
                return frames
    return frames


def _by_files(frames: Sequence[tuple[Frame, float]], commit: Commit) -> list[tuple[float, str]]:
    evidence: list[tuple[float, str]] = []
    for rank, (frame, weight) in enumerate(frames):
        where = "where it was raised" if rank == 0 else "on the stack"
        touched = _file_of(frame, commit.files) if frame.own else None
        if touched is not None:
            evidence.append(_in_file(frame, weight, touched, where))
        if frame.own and frame.code:
            evidence += _named(frame, weight, commit.files, touched)
    return evidence


def _in_file(frame: Frame, weight: float, touched: Touched, where: str) -> tuple[float, str]:
    name = touched.path.rpartition("/")[2]
    away = None
    if frame.line is not None:
        if any(first <= frame.line <= last for first, last in touched.ranges):
            return weight * ON_THE_LINE, f"changed line {frame.line} of {name}, {where}"
        away = min((_away(frame.line, first, last) for first, last in touched.ranges), default=None)
        if away is not None and away <= NEAR_LINES:
            near = NEAR_THE_LINE - 0.02 * away
            return weight * near, f"changed {name} within {count_of(away, 'line')} of line {frame.line}, {where}"
    if _bare(frame.function) in touched.names:
        return weight * ON_THE_FUNCTION, f"changed {_bare(frame.function)} in {name}, {where}"
    if away is not None and away <= FAR_LINES:
        strength = ON_THE_FILE + CLOSER_IN_THE_FILE * math.exp(-away / 40)
        return weight * strength, f"changed {name} {away} lines from line {frame.line}, {where}"
    reason = f"changed {name}, which is {where}" if where == "on the stack" else f"changed {name}, {where}"
    return weight * ON_THE_FILE, reason


def _named(frame: Frame, weight: float, files: Sequence[Touched], own_file: Touched | None) -> list[tuple[float, str]]:
    words = _words(frame)
    reasons = []
    for touched in files:
        for name in words.intersection(touched.names):
            if touched is own_file and name == _bare(frame.function):
                continue
            reasons.append(
                (
                    weight * NAMED_BY_THE_LINE,
                    f"changed {name}, which line {frame.line or '?'} of {frame.file.rpartition('/')[2]} uses",
                )
            )
    return reasons


def _by_libraries(frames: Sequence[tuple[Frame, float]], libraries: Sequence[LibraryChange]) -> list[tuple[float, str]]:
    if not libraries:
        return []
    reasons: list[tuple[float, str]] = []
    by_name = {_library_name(change.name): change for change in libraries}
    named: set[str] = set()
    for rank, (frame, weight) in enumerate(frames):
        if frame.own:
            continue
        for name in _packages(frame):
            change = by_name.get(name)
            if change is not None and name not in named:
                named.add(name)
                what = f"{change.before or 'none'} to {change.after or 'none'}"
                where = "and it was raised there" if rank == 0 else "which is on the stack"
                reasons.append((weight * LIBRARY, f"changed {change.name} from {what}, {where}"))
    return reasons


def _file_of(frame: Frame, files: Sequence[Touched]) -> Touched | None:
    """Return the touched file of a frame: the one whose path ends most like the frame's."""
    here = _parts_of(frame.file)
    if not here:
        return None
    best, most = None, 0
    for touched in files:
        segments = touched.path.split("/")
        same = 0
        while same < min(len(here), len(segments)) and here[-1 - same] == segments[-1 - same]:
            same += 1
        stem = here[-1].partition(".")[0].lower()
        enough = same >= 2 or (same == 1 and (len(segments) == 1 or len(here) == 1 or stem not in _COMMON_FILES))
        if enough and same > most:
            best, most = touched, same
    return best


def _away(line: int, first: int, last: int) -> int:
    return first - line if line < first else line - max(last, first - 1) if line > last else 0


def _bare(function: str) -> str:
    """Return a function's own name: without class, arguments and suffixes of closures."""
    name = function.split("(")[0].replace("::", ".").replace("#", ".").replace("/", ".")
    parts = [part for part in name.split(".") if part and not part.startswith("<")]
    return parts[-1].strip("$") if parts else function


def _packages(frame: Frame) -> list[str]:
    """Return the names under which the library of a frame may be installed."""
    packages = []
    place = re.search(
        r"[\\/](?:site-packages|dist-packages|node_modules|vendor|gems|registry[\\/]src[\\/][^\\/]+|mod)[\\/](.+)$",
        frame.file,
    )
    if place is not None:
        parts = re.split(r"[\\/]", place[1])
        name = "/".join(parts[:2]) if parts[0].startswith("@") else parts[0]
        packages.append(_library_name(re.sub(r"(?:\.py|[-@]v?\d[\w.+-]{0,60})$", "", name)))
        if len(parts) > 2:
            packages.append(_library_name("/".join(parts[:3]).partition("@")[0]))
            packages.append(_library_name("/".join(parts[:2])))
    if frame.module:
        packages += [
            _library_name(frame.module.partition(".")[0]),
            _library_name(":".join(frame.module.split(".")[:2])),
        ]
    return packages


def _library_name(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()
