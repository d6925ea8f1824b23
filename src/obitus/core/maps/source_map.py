"""A parsed source map: where in the source a place in the built code comes from.

Source: ECMA-426, first edition (*Source map format*, *Index map*). Errors of a map are raised; invalid mappings (a
source that it does not list, a line before the first) are skipped, and the place stays as it is.
"""

from __future__ import annotations

import json
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final, NamedTuple

if TYPE_CHECKING:
    from obitus.core.maps.scopes import Scopes
    from obitus.core.maps.vlq import Segments

GUARD: Final = b")]}'"
"""A possible first line of a served map, so that a page cannot run it as a script."""
OUTSIDE: Final = "<module>"
"""The name of a file's code outside all functions."""
MOST_SECTIONS: Final = 10_000
MOST_NAMES: Final = 5_000_000


class MapTrouble(ValueError):
    """Raised for an invalid source map; the message says why."""


class Original(NamedTuple):
    """A place in the source."""

    source: int
    """The number of the source among those of the map."""
    line: int
    """The first line is 1."""
    column: int
    """The first column is 0, in UTF-16 code units."""
    name: str | None
    """The name at that place in the source, where the map has it."""


@dataclass(frozen=True, slots=True)
class _Section:
    """A map in an index map, or the whole of a plain map."""

    line: int
    column: int
    """Where it begins in the built code, both from 0."""
    mappings: bytes
    names: Sequence[Any]
    first_source: int
    sources: int
    decoded: list[Segments] = field(default_factory=list)

    def segments(self) -> Segments:
        """Return the segments, decoded at the first use; raises MapTrouble."""
        if not self.decoded:
            # numpy is imported only by those who have maps.
            from obitus.core.maps.vlq import MappingsTrouble, decode

            try:
                self.decoded.append(decode(self.mappings))
            except MappingsTrouble as trouble:
                raise MapTrouble(f"the mappings cannot be read: {trouble}") from None
        return self.decoded[0]


class SourceMap:
    """A map. Its mappings are decoded at the first use."""

    def __init__(self, map_: Mapping[str, Any]) -> None:
        """Make a map from its JSON; raises MapTrouble."""
        self.sources: list[str | None] = []
        """The address of each source; None where the map does not have it."""
        self.contents: list[str | None] = []
        """The text of each source, where the map has it."""
        self.ignored: set[int] = set()
        """The sources that are not the team's own, by the build's list."""
        self.file = _text(map_, "file")
        self.debug_id = _debug_id(map_)
        self._sections: list[_Section] = []
        self._scopes: list[tuple[int, int, str, Sequence[Any]]] = []
        self._read(map_)

    @classmethod
    def read(cls, data: bytes) -> SourceMap:
        """Parse a file as a map; raises MapTrouble."""
        if data.startswith(GUARD):
            data = data.partition(b"\n")[2]
        try:
            map_ = json.loads(data)
        except (ValueError, RecursionError) as error:
            raise MapTrouble(f"this is no JSON: {error}") from None
        if not isinstance(map_, dict):
            raise MapTrouble("a source map is a JSON object")
        return cls(map_)

    def check(self) -> None:
        """Decode everything; raises MapTrouble."""
        for section in self._sections:
            section.segments()

    def original(self, line: int, column: int) -> Original | None:
        """Return where a place in the built code comes from: lines count from 1, columns from 0 in UTF-16 code units.

        None where the map does not have it; raises MapTrouble where the mappings are invalid.
        """
        line -= 1
        at = bisect_right(self._begins, (line, column)) - 1
        if at < 0 or line < 0 or column < 0:
            return None
        section = self._sections[at]
        line -= section.line
        if line == 0:
            column -= section.column
        segment = section.segments().at(line, column)
        if segment is None:
            return None
        source, source_line, source_column, name = segment
        if not 0 <= source < section.sources or source_line < 0 or source_column < 0:
            return None
        name_given = section.names[name] if 0 <= name < len(section.names) else None
        return Original(
            section.first_source + source,
            source_line + 1,
            source_column,
            name_given if isinstance(name_given, str) else None,
        )

    def function_at(self, source: int, line: int, column: int) -> str | None:
        """Return the function around a place of a source, from the map's scopes; None where they do not have that source.

        Lines count from 1, columns from 0; outside all functions it is ``OUTSIDE``.
        """
        for first, scopes in self._functions:
            if scopes.is_known(source - first):
                return scopes.at(source - first, line, column) or OUTSIDE
        return None

    @cached_property
    def _functions(self) -> list[tuple[int, Scopes]]:
        functions = []
        for first, sources, text, names in self._scopes:
            # Imported only for such maps.
            from obitus.core.maps.scopes import Scopes, ScopesTrouble

            try:
                functions.append((first, Scopes(text, names, sources)))
            except ScopesTrouble:
                continue
        return functions

    @cached_property
    def _begins(self) -> list[tuple[int, int]]:
        return [(section.line, section.column) for section in self._sections]

    def _read(self, map_: Mapping[str, Any]) -> None:
        if map_.get("version") != 3:
            raise MapTrouble(f"version 3 of the format is expected, not {str(map_.get('version'))[:20]}")
        sections = map_.get("sections")
        if sections is None:
            self._add(map_, 0, 0)
            return
        if not isinstance(sections, list) or len(sections) > MOST_SECTIONS:
            raise MapTrouble(f"sections are a list, of {MOST_SECTIONS:,} at most")
        for section in sections:
            inner, offset = (section.get("map"), section.get("offset")) if isinstance(section, dict) else (None, None)
            line, column = (offset.get("line"), offset.get("column")) if isinstance(offset, dict) else (None, None)
            if (
                not (isinstance(inner, dict) and isinstance(line, int) and isinstance(column, int))
                or min(line, column) < 0
            ):
                raise MapTrouble("each section has an offset (line and column) and a map of its own")
            if "sections" in inner or inner.get("version") != 3:
                raise MapTrouble("the map of a section is of version 3, and has no sections")
            if self._sections and (line, column) <= (self._sections[-1].line, self._sections[-1].column):
                raise MapTrouble("sections stand in the order of their offsets")
            self._add(inner, line, column)

    def _add(self, map_: Mapping[str, Any], line: int, column: int) -> None:
        mappings, sources, names = map_.get("mappings"), map_.get("sources"), map_.get("names", [])
        if not isinstance(mappings, str) or not mappings.isascii():
            raise MapTrouble("mappings are a text of base64 VLQ numbers")
        if not isinstance(sources, list) or not isinstance(names, list) or len(names) > MOST_NAMES:
            raise MapTrouble("sources and names are lists")
        contents = map_.get("sourcesContent")
        contents = contents if isinstance(contents, list) else []
        first, root = len(self.sources), _text(map_, "sourceRoot")
        for number, source in enumerate(sources):
            self.sources.append(_address(source, root))
            content = contents[number] if number < len(contents) else None
            self.contents.append(content if isinstance(content, str) else None)
        ignored = map_.get("ignoreList")
        for index in ignored if isinstance(ignored, list) else ():
            if isinstance(index, int) and 0 <= index < len(sources):
                self.ignored.add(first + index)
        if isinstance(map_.get("scopes"), str):
            self._scopes.append((first, len(sources), map_["scopes"], names))
        self._sections.append(_Section(line, column, mappings.encode("ascii"), names, first, len(sources)))


def _address(source: Any, root: str) -> str | None:
    """Return the address of a source, below the root that a map names."""
    if not isinstance(source, str):
        return None
    prefix = root if not root or root.endswith("/") else f"{root}/"
    return prefix + source


def _text(map_: Mapping[str, Any], name: str) -> str:
    text = map_.get(name)
    return text if isinstance(text, str) else ""


def _debug_id(map_: Mapping[str, Any]) -> str:
    """Return the id that a build and its map share, in lower case; '' where the map has none."""
    return (_text(map_, "debugId") or _text(map_, "debug_id")).lower()[:64]
