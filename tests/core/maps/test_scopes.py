"""Functions as a map's scopes say them: read back what was written, by property; and whatever else may stand there."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.maps.scopes import Scopes, ScopesTrouble
from obitus.core.maps.source_map import SourceMap
from obitus.core.maps.turning import OpenedMap, turned
from tests.core.maps.writing import Place, Scope, map_of, scopes_of


@st.composite
def scopes(draw: st.DrawFn) -> Scope:
    """Draw the scopes of a source: nested, side by side, named and not."""
    places = sorted(
        draw(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 60)), min_size=2, max_size=24, unique=True))
    )

    def inside(inner: list[Place], deep: int) -> list[Scope]:
        found = []
        while len(inner) >= 2:
            size = draw(st.integers(2, len(inner)))
            here, inner = inner[:size], inner[size:]
            name = draw(st.none() | st.sampled_from(["board", "Fares.quote", "x"]))
            found.append(Scope(here[0], here[-1], name, draw(st.booleans()), inside(here[1:-1], deep + 1)))
        return found

    return Scope((0, 0), (40, 0), None, False, inside(places, 0))


def plain(scope: Scope, place: Place) -> str | None:
    """Return the innermost function around a place, by looking at all."""
    if not scope.begins <= place < scope.ends:
        return None
    for one in scope.inner:
        found = plain(one, place)
        if found is not None:
            return found
    return (scope.name or "<anonymous>") if scope.is_function else None


@given(
    st.lists(st.none() | scopes(), max_size=4),
    st.lists(st.tuples(st.integers(0, 41), st.integers(0, 70)), min_size=1, max_size=20),
)
def test_what_was_written_is_read(sources: list[Scope | None], places: list[Place]) -> None:
    """At each place of each source, as looking at all of them says it."""
    text, names = scopes_of(sources)
    found = Scopes(text, names, len(sources))
    for number, scope in enumerate(sources):
        for line, column in places:
            said = plain(scope, (line, column)) if scope is not None else None
            assert found.at(number, line + 1, column) == said, (text, line, column)


def test_a_frame_is_named_by_the_map() -> None:
    """Without any source text in it, and before the text where there is one; a source that it says nothing of stays with its text."""
    quote = Scope((3, 2), (9, 3), "Fares.quote", True, [])
    text, names = scopes_of([Scope((0, 0), (20, 0), None, False, [quote]), None])
    sources = ["a.ts", "b.ts"]
    map_ = map_of(
        [[(0, 0, 4, 5), (10, 0, 12, 0), (20, 1, 0, 4)]],
        sources,
        scopes=text,
        names=names,
        sourcesContent=[None, "const f = () => g();\n"],
    )
    opened = OpenedMap(SourceMap(map_), "page.js")
    frames = [{"function": "a", "file": "page.js", "line": 1, "column": column} for column in (5, 15, 25)]
    back = turned(frames, lambda _: opened)
    assert back is not None and [one["function"] for one in back] == ["Fares.quote", "<module>", "<module>"]


@pytest.mark.parametrize("text", ["B", "BEAA", "C", "BEAAA", "B*", "BAAA,?", "BA" + "g" * 40, "BAAA," * 2000])
def test_what_cannot_be_read_is_said(text: str) -> None:
    """A map with it works as one without."""
    with pytest.raises(ScopesTrouble):
        Scopes(text, [], 2)
    found = SourceMap(map_of([[(0, 0, 0, 0)]], scopes=text))
    assert found.function_at(0, 1, 0) is None


@given(st.text("ABCDEFGgz,*", max_size=40))
def test_whatever_stands_there(text: str) -> None:
    """It is read or refused, and nothing else happens."""
    try:
        Scopes(text, ["a"], 3).at(0, 1, 1)
    except ScopesTrouble:
        return
