"""Frames of built code, mapped back to the original source. The place comes from the source map, the function from
the source itself: after minifying, ``a`` is another function in each build. Where the map has no source, a function
gets the name by which its caller calls it, from the map's names.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Final
from urllib.parse import unquote, urlsplit

from obitus.core import bounds
from obitus.core.frames import looks_like_library
from obitus.core.maps.source_map import OUTSIDE, MapTrouble, Original, SourceMap

if TYPE_CHECKING:
    from obitus.core.maps.functions import Functions

UNKNOWN: Final = "<unknown>"
_AROUND: Final = 5
_MOST_LINE: Final = 400
"""Characters that are kept of a line of source."""
_SCHEME: Final = re.compile(r"^[a-z][a-z0-9+.-]*:(?://)?/*", re.IGNORECASE)
_NAME: Final = re.compile(r"^[\w$.#]{1,200}$")

Frame = dict[str, Any]


class OpenedMap:
    """A map with its sources: names of functions, and lines."""

    def __init__(self, source_map: SourceMap, built_path: str) -> None:
        self._map, self._path = source_map, built_path
        self.functions = lru_cache(maxsize=64)(self._functions)
        self.lines = lru_cache(maxsize=64)(self._lines)

    def original(self, line: int, column: int) -> Original | None:
        """Return the original place of one in the built code; lines and columns count from 1. None where the map does not have it."""
        try:
            return self._map.original(line, column - 1)
        except MapTrouble:
            return None

    def function_at(self, original: Original) -> str | None:
        """Return the function around a place, where the map itself has it."""
        return self._map.function_at(original.source, original.line, original.column)

    def path(self, source: int) -> str:
        """Return the path of a source for people: relative to the folder of the build, without schemes and steps up."""
        return source_path(self._map.sources[source], self._path)

    def is_own(self, source: int) -> bool:
        """Whether a source is the team's own."""
        return source not in self._map.ignored and not looks_like_library(self._map.sources[source] or "")

    def _functions(self, source: int) -> Functions | None:
        text = self._map.contents[source]
        if text is None:
            return None
        # The parser is imported only by those who have maps.
        from obitus.core.maps.functions import Functions

        return Functions(text, posixpath.splitext(self.path(source))[1])

    def _lines(self, source: int) -> list[str] | None:
        text = self._map.contents[source]
        return None if text is None else text.splitlines()


def source_path(source: str | None, built_path: str) -> str:
    """Return the path of a source: ``../src/fares.ts`` of a map at ``assets/index.js`` is ``src/fares.ts``."""
    if not source:
        return UNKNOWN
    source = source.partition("?")[0]
    if _SCHEME.match(source):
        path = _SCHEME.sub("", source)
        return path.removeprefix("./") or UNKNOWN
    joined = posixpath.normpath(posixpath.join(posixpath.dirname(built_path), unquote(source)))
    while joined.startswith("../"):
        joined = joined[3:]
    return joined


def built_path(file: str) -> str:
    """Return the path of a file that a page or a process ran, without host, query and fragment."""
    path = urlsplit(file).path if "://" in file else file.partition("?")[0].partition("#")[0]
    return path.replace("\\", "/").lstrip("/")


def turned(frames: Sequence[Frame], find: Callable[[Frame], OpenedMap | None]) -> list[Frame] | None:
    """Return frames, with those mapped back for which there is a map; None where there is none. ``built`` keeps the built places."""
    originals: list[tuple[OpenedMap, Original] | None] = []
    for frame in frames:
        place = None
        if frame.get("line") and frame.get("column") and frame.get("file") and "built" not in frame:
            opened = find(frame)
            original = opened.original(frame["line"], frame["column"]) if opened is not None else None
            place = (opened, original) if opened is not None and original is not None else None
        originals.append(place)
    if not any(originals):
        return None
    return [
        frame if place is None else _turned(frame, *place, _called(originals[at - 1] if at else None))
        for at, (frame, place) in enumerate(zip(frames, originals, strict=True))
    ]


def _called(caller: tuple[OpenedMap, Original] | None) -> str:
    """Return the name that the calling frame calls at its place, from the map."""
    name = caller[1].name if caller is not None else None
    return name if name and _NAME.match(name) else ""


def _turned(frame: Frame, opened: OpenedMap, original: Original, called: str) -> Frame:
    function = opened.function_at(original)
    functions = None if function else opened.functions(original.source)
    if function:
        name = function
    elif functions is not None and functions.is_known:
        name = functions.at(original.line, original.column)
    else:
        name = called or (OUTSIDE if frame["function"] in ("", OUTSIDE) else UNKNOWN)
    turned_back = {key: value for key, value in frame.items() if key not in ("module", "source", "source_missing")}
    turned_back |= {
        "function": name,
        "file": opened.path(original.source),
        "line": original.line,
        "column": original.column + 1,
        "own": opened.is_own(original.source),
        "built": {key: frame[key] for key in ("function", "file", "line", "column") if frame.get(key)},
    }
    lines = opened.lines(original.source)
    if lines is not None and original.line <= len(lines):
        turned_back["source"] = _source(lines, original.line - 1)
    return turned_back


def _source(lines: Sequence[str], at: int) -> Mapping[str, Any]:
    around = min(_AROUND, bounds.SOURCE_LINES)
    return {
        "before": [line[:_MOST_LINE] for line in lines[max(0, at - around) : at]],
        "line": lines[at][:_MOST_LINE],
        "after": [line[:_MOST_LINE] for line in lines[at + 1 : at + 1 + around]],
    }
