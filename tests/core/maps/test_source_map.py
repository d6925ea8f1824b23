"""Source maps are read as they were written, whatever they hold; what is wrong with one is said, and never breaks anything else."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.maps.source_map import MapTrouble, Original, SourceMap
from obitus.core.maps.vlq import MappingsTrouble, decode
from tests.core.maps.writing import Segment, map_of, mappings

COUNT = st.integers(0, 2**20)
SEGMENT = st.one_of(
    st.tuples(COUNT), st.tuples(COUNT, COUNT, COUNT, COUNT), st.tuples(COUNT, COUNT, COUNT, COUNT, COUNT)
)
LINES = st.lists(st.lists(SEGMENT, max_size=8), min_size=1, max_size=8)


@given(LINES)
def test_segments_come_back_as_they_were(lines: list[list[Segment]]) -> None:
    """All numbers of all segments, in the order of their columns, line by line."""
    found = decode(mappings(lines).encode())
    assert len(found.begins) == len(lines) + 1
    for at, line in enumerate(lines):
        first, last = found.begins[at], found.begins[at + 1]
        columns = (found.columns, found.sources, found.lines, found.source_columns, found.names)
        read = [tuple(int(one[place]) for one in columns) for place in range(first, last)]
        wanted = [(*segment, *(-1 for _ in range(5 - len(segment)))) for segment in line]
        assert read == sorted(wanted, key=lambda one: one[0])


@given(LINES, st.integers(0, 9), COUNT)
def test_a_place_is_found_as_by_looking_at_each(lines: list[list[Segment]], line: int, column: int) -> None:
    """The segment with the greatest column that is not behind the place; of several at that very column the first, else the last."""
    read = SourceMap(map_of(lines, [f"{number}.ts" for number in range(2**3)], names=["fare", 7]))
    wanted: Original | None = None
    if 1 <= line <= len(lines):
        at_most = [segment for segment in lines[line - 1] if segment[0] <= column]
        if at_most:
            best = max(segment[0] for segment in at_most)
            alike = [segment for segment in at_most if segment[0] == best]
            segment = alike[0 if best == column else -1]
            if len(segment) > 1 and segment[1] < 8:
                name = "fare" if len(segment) == 5 and segment[4] == 0 else None
                wanted = Original(segment[1], segment[2] + 1, segment[3], name)
    assert read.original(line, column) == wanted


@given(st.text(alphabet="ABgC+/9,;", max_size=60))
def test_no_mappings_break_the_reader(text: str) -> None:
    """Anything of the alphabet is read, or refused in words."""
    try:
        found = decode(text.encode())
    except MappingsTrouble as trouble:
        assert str(trouble)
        return
    assert found.begins[-1] == len(found.columns) and len(found.begins) == text.count(";") + 2


@given(st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=8), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(("version", "sources", "names", "mappings", "sections", "offset", "map", "line", "column", "ignoreList", "sourcesContent")), inner, max_size=6), max_leaves=20))  # fmt: skip
def test_no_map_breaks_the_reader(value: Any) -> None:
    """Whatever JSON it is, there is a map, or words that say why there is none."""
    for tried in (value, value | {"version": 3} if isinstance(value, dict) else value):
        try:
            SourceMap.read(json.dumps(tried).encode()).original(1, 0)
        except MapTrouble as trouble:
            assert str(trouble)


def test_an_index_map_is_its_sections() -> None:
    """Each begins at a place of its own; its columns count from there on its first line only; sources are numbered on."""
    first, second = map_of([[(0, 0, 0, 0)], [(2, 0, 4, 1)]]), map_of([[(0, 0, 9, 0), (5, 0, 9, 5)], [(1, 0, 11, 0)]], ["b.ts"], sourceRoot="src", ignoreList=[0])  # fmt: skip
    sections = [
        {"offset": {"line": 0, "column": 0}, "map": first},
        {"offset": {"line": 1, "column": 10}, "map": second},
    ]
    read = SourceMap({"version": 3, "sections": sections})
    assert read.sources == ["a.ts", "src/b.ts"] and read.ignored == {1}
    assert read.original(2, 9) == Original(0, 5, 1, None)
    assert read.original(2, 10) == Original(1, 10, 0, None) and read.original(2, 16) == Original(1, 10, 5, None)
    assert read.original(3, 3) == Original(1, 12, 0, None) and read.original(3, 0) is None
    assert read.original(1, 5) == Original(0, 1, 0, None)


def test_what_is_served_with_a_guard_is_read() -> None:
    """A line may stand before the map; the id of the build is in lower case, whichever way it is written."""
    text = json.dumps(map_of([[(0, 0, 0, 0, 0)]], names=["quote"], debugId="AB-1", file="gate.js"))
    read = SourceMap.read(b")]}'\n" + text.encode())
    assert (read.debug_id, read.file, read.original(1, 3)) == ("ab-1", "gate.js", Original(0, 1, 0, "quote"))


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b'{"version": 3, "sources": [', "this is no JSON"),
        (b"[]", "a source map is a JSON object"),
        (b'{"version": 2}', "version 3 of the format is expected, not 2"),
        (b'{"version": 3, "sources": [], "mappings": 4}', "a text of base64 VLQ numbers"),
        (b'{"version": 3, "sources": 7, "mappings": ""}', "sources and names are lists"),
        (b'{"version": 3, "sections": [{}]}', "each section has an offset"),
        (b"[" * 100_000, "this is no JSON"),
    ],
)
def test_what_is_no_map_is_said(data: bytes, said: str) -> None:
    """Cut off, of another version, or something else."""
    with pytest.raises(MapTrouble, match=said):
        SourceMap.read(data)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("AAAA,!", "the sign at 6"),
        ("AAAg", "cut off"),
        ("AAAg,A", "cut off"),
        ("AA", "2 numbers"),
        ("ggggggggA", "32 bits"),
        ("+/////////B", "32 bits"),
    ],
)
def test_mappings_that_lie_are_said(text: str, said: str) -> None:
    """A sign that is none, a number cut off or too large, a segment of two."""
    with pytest.raises(MapTrouble, match=said):
        SourceMap(map_of([]) | {"mappings": text}).original(1, 0)


def test_sources_that_are_not_there_are_passed_over() -> None:
    """A map that points outside of itself says nothing of those places, and what it says rightly stands."""
    read = SourceMap(map_of([[(0, 5, 0, 0), (4, 0, 2, 0, 9), (8, 0, -4, 0), (12,)]]))
    assert [read.original(1, column) for column in (1, 8, 13)] == [None, None, None]
    assert read.original(1, 5) == Original(0, 3, 0, None)
