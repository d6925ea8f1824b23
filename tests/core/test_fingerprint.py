"""The fingerprint: what makes two failures one issue."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.fingerprint import MOST_PARTS_SHOWN, fingerprint, normalise_message, place_of_fault
from obitus.core.frames import ChainLink, Frame, looks_like_library

NAMES = st.text("abcdef_", min_size=1, max_size=6)
FRAMES = st.builds(Frame, function=NAMES, module=NAMES, file=NAMES, line=st.integers(1, 999), own=st.booleans())
LINKS = st.builds(ChainLink, type=NAMES, message=st.text(max_size=20), frames=st.lists(FRAMES, max_size=8))
CHAINS = st.lists(LINKS, min_size=1, max_size=4)


def chain(*places: str, kind: str = "ValueError", own: bool = True) -> list[ChainLink]:
    return [ChainLink(kind, "", [Frame(place, "m", own=own) for place in places])]


@given(CHAINS, st.integers(0, 500))
def test_lines_and_files_do_not_count(links: list[ChainLink], drift: int) -> None:
    """An edit above the fault, or a moved file, leaves the issue whole."""
    moved = [
        replace(link, frames=[replace(f, line=(f.line or 0) + drift, file="elsewhere") for f in link.frames])
        for link in links
    ]
    assert fingerprint(moved).text == fingerprint(links).text


@given(CHAINS)
def test_messages_count_only_without_frames(links: list[ChainLink]) -> None:
    """With any frame on the stack, the message plays no part."""
    other = [replace(link, message=link.message + " and more") for link in links]
    if any(link.frames for link in links):
        assert fingerprint(other).text == fingerprint(links).text


@given(CHAINS)
def test_library_frames_do_not_count_beside_own_code(links: list[ChainLink]) -> None:
    """Another framework version between own frames does not split an issue."""
    if all(any(f.own for f in link.frames) for link in links):
        bare = [replace(link, frames=[f for f in link.frames if f.own]) for link in links]
        assert fingerprint(bare).text == fingerprint(links).text


@given(CHAINS)
def test_every_part_says_why(links: list[ChainLink]) -> None:
    """No part is without its reason, and what is kept of a decision is bounded."""
    parts = fingerprint(links).parts
    assert all(part.reason for part in parts)
    assert len(parts) <= MOST_PARTS_SHOWN + 1


def test_types_functions_and_their_order_count() -> None:
    """Another type, another function, or another way through the code is another issue."""
    texts = {
        fingerprint(chain("a", "b")).text,
        fingerprint(chain("b", "a")).text,
        fingerprint(chain("a", "b", "c")).text,
        fingerprint(chain("a", "b", kind="KeyError")).text,
        fingerprint(chain("a", "b") + chain("c", kind="OSError")).text,
    }
    assert len(texts) == 5


def test_recursion_collapses() -> None:
    """However deep a recursion went, it is one issue; where an endless one hit the limit is chance."""
    assert fingerprint(chain("a", "b", "b", "b", "c")).text == fingerprint(chain("a", "b", "c")).text
    deep = chain("a", *["b", "c"] * 300, kind="RecursionError")
    deeper = chain("a", *["b", "c"] * 400, "b", "helper", kind="RecursionError")
    assert fingerprint(deep).text == fingerprint(deeper).text
    assert any(part.kind == "recursion" and not part.counted for part in fingerprint(deep).parts)


def test_library_frames_count_when_there_is_no_own_code() -> None:
    """A failure wholly inside libraries is still told apart by where it happened."""
    assert fingerprint(chain("a", own=False)).text != fingerprint(chain("b", own=False)).text


def test_message_decides_without_frames_but_not_its_numbers() -> None:
    """Without any frame the message decides; ids and numbers in it do not."""
    first = [ChainLink("E", "row 12 of 5f0c1a4e-1111-4222-8333-444455556666 at 0xdeadbeef")]
    second = [ChainLink("E", "row 7 of 00000000-1111-4222-8333-444455556666 at 0x1")]
    assert fingerprint(first).text == fingerprint(second).text
    assert fingerprint(first).text != fingerprint([ChainLink("E", "column 12")]).text
    assert normalise_message("took 12 ms") == "took # ms"


def test_place_of_fault_is_the_innermost_own_frame_of_the_root_cause() -> None:
    """The place named in an issue's title is where it went wrong, not who wrapped it."""
    links = [
        ChainLink("Outer", "", [Frame("wrap", "m")]),
        ChainLink("Inner", "", [Frame("read", "m"), Frame("recv", "lib", own=False)], "cause"),
    ]
    found = place_of_fault(links)
    assert found is not None and found.place == "m.read"
    assert place_of_fault([ChainLink("E")]) is None


def test_library_paths_are_recognised() -> None:
    """Senders that do not say what is own code get a guess from the path."""
    assert looks_like_library("/srv/.venv/lib/python3.11/site-packages/anyio/x.py")
    assert looks_like_library("/app/node_modules/left/index.js")
    assert not looks_like_library("/srv/sailings/fares.py")


def test_where_an_app_lies_does_not_matter() -> None:
    """Without a module a file counts by its name and folder: not by the way to it, nor by a version in that way."""
    places = [
        Frame("berth", file=file).place
        for file in (
            "/srv/a/quay/gate.js",
            "/home/ida/quay/gate.js",
            "C:\\apps\\quay\\gate.js",
            "https://pier.example/quay/gate.js?v=3",
        )
    ]
    assert set(places) == {"quay/gate.js.berth"}
    assert (
        Frame("berth", file="/deploys/2.9.0/gate.js").place
        == Frame("berth", file="/deploys/3.0.0/gate.js").place
        == "gate.js.berth"
    )
    assert Frame("berth", file="/srv/lights/gate.js").place != places[0] and Frame("berth").place == "berth"
