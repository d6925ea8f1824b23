"""How closely a commit touches a stack, and whether one issue lies behind another."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.changes.commits import Commit, LibraryChange, Touched
from obitus.core.changes.ranking import likely_changes
from obitus.core.changes.revealing import Story, lies_behind
from obitus.core.frames import ChainLink, Frame


def commit(name: str, *files: Touched, time_ms: int = 0, libraries: tuple[LibraryChange, ...] = ()) -> Commit:
    return Commit(name, time_ms, "Ida Moss", name, files, libraries)


FRAMES = (
    Frame("serve", "sailings.app", "/srv/line/sailings/app.py", 12, code="return board(body)"),
    Frame("board", "sailings.boardings", "/srv/line/sailings/boardings.py", 40, code="deck = deck_for(height)"),
    Frame("render", "jinja2.environment", "/srv/lib/python3.11/site-packages/jinja2/environment.py", 900, own=False),
    Frame(
        "depth_at", "sailings.tides", "/srv/line/sailings/tides.py", 22, code="return DEPTHS[pier] - margin_of(pier)"
    ),
)
CHAIN = (ChainLink("KeyError", "x", FRAMES),)


def names(*commits: Commit) -> list[str]:
    return [one.commit.id for one in likely_changes(CHAIN, commits)]


def test_the_nearer_the_likelier() -> None:
    """Line before function before what the line names before file, and the raise before its callers."""
    line = commit("line", Touched("src/sailings/tides.py", [(20, 25)]))
    near = commit("near", Touched("src/sailings/tides.py", [(24, 24)]))
    function = commit("function", Touched("src/sailings/tides.py", [(2, 3)], ["depth_at"]))
    named = commit("named", Touched("src/sailings/margins.py", [(1, 3)], ["margin_of"]))
    file = commit("file", Touched("src/sailings/tides.py", [(90, 91)]))
    caller = commit("caller", Touched("src/sailings/boardings.py", [(40, 40)]))
    library = commit("library", Touched("requirements.txt"), libraries=(LibraryChange("Jinja2", "3.1.2", "3.1.4"),))
    other = commit("other", Touched("docs/piers.md", [(1, 500)]), Touched("src/gatekeeper/tides_of_old.py", [(22, 22)]))
    found = names(other, file, library, caller, named, function, near, line)
    assert found[:3] == ["line", "near", "caller"] and "other" not in found
    assert names(file, function) == ["function", "file"] and names(file, named) == ["named", "file"]
    (first, *_) = likely_changes(CHAIN, [library])
    assert first.reasons == ("changed Jinja2 from 3.1.2 to 3.1.4, which is on the stack",)
    assert likely_changes(CHAIN, [other]) == []


def test_a_mass_change_says_less() -> None:
    """A commit that touches every file touches these too, and is no better a guess for it."""
    mass = commit(
        "mass",
        *[Touched(f"src/sailings/f{i}.py", [(1, 900)]) for i in range(400)],
        Touched("src/sailings/tides.py", [(1, 900)]),
    )
    assert names(mass, commit("line", Touched("src/sailings/tides.py", [(22, 22)]))) == ["line", "mass"]


def test_files_of_one_name_are_told_apart() -> None:
    """The path that ends most alike is the file; a common name alone is none."""
    chain = (ChainLink("E", "", (Frame("f", "sailings", "/srv/line/sailings/__init__.py", 5),)),)
    other = commit("other", Touched("gatekeeper/__init__.py", [(5, 5)]))
    right = commit("right", Touched("src/sailings/__init__.py", [(5, 5)]))
    assert [one.commit.id for one in likely_changes(chain, [other, right])] == ["right"]


@given(st.permutations(range(6)))
def test_the_order_they_are_given_in_plays_no_part(places: list[int]) -> None:
    """The same commits have the same ranking."""
    known = [commit(f"c{i}", Touched("src/sailings/tides.py", [(i * 6, i * 6 + 1)]), time_ms=i) for i in range(6)]
    assert names(*(known[i] for i in places)) == names(*known)


def at(line: int, code: str, *deeper: Frame, steps: tuple[tuple[str, str], ...] = ()) -> Story:
    return Story(
        (ChainLink("E", "", (FRAMES[0], Frame("board", "sailings.boardings", "b.py", line, code=code), *deeper)),),
        steps,
    )


def test_further_down_is_behind() -> None:
    """A later line of the same function, or what is called from it, could not be reached before; an earlier one could."""
    assert "got past it to line 31" in (lies_behind(at(20, "height = body['h']"), at(31, "deck = decks[height]")) or "")
    deeper = lies_behind(at(20, "height = body['h']"), at(31, "deck = deck_for(height)", FRAMES[3]))
    assert deeper is not None and "in depth_at called from there" in deeper
    assert lies_behind(at(31, "deck = decks[height]"), at(20, "height = body['h']")) is None
    # The same line that only moved is not further down.
    assert lies_behind(at(20, "height = body['h']"), at(24, "height = body['h']")) is None
    # A line that the fix rewrote is not further down either; one that stood below it, or that it stands above, is.
    rewritten = at(31, "return sum(int(row['weight'] or 2000) for row in rows)")
    assert lies_behind(at(30, "return sum(int(field(row, 'weight')) for row in rows)"), rewritten) is None
    first, second = at(20, "height = body['height']"), at(19, "width = body['width']")
    below = Story(first.chain, (), {("b.py", 20): ((), ("width = body['width']",))})
    assert lies_behind(first, second) is None and lies_behind(below, second) is not None
    elsewhere = Story((ChainLink("E", "", (Frame("other", "sailings.fares", "f.py", 90),)),))
    assert lies_behind(at(20, "x"), elsewhere) is None


def test_more_steps_are_behind() -> None:
    """Where the stacks share nothing, a run that did all the steps of the earlier ones and more got further."""
    before = (("statement", "SELECT depth FROM piers WHERE name = 'merrow'"),)
    one, other = (
        Story((), before),
        Story((), (("statement", "SELECT depth FROM piers WHERE name = 'gannet-stack'"), ("http", "POST /passes"))),
    )
    assert "went on: http POST /passes" in (lies_behind(one, other) or "")
    assert lies_behind(other, one) is None and lies_behind(Story(()), other) is None
