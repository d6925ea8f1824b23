"""The positions up to which files were read."""

from __future__ import annotations

from pathlib import Path

import pytest

from obitus.reading.marks import HEAD_BYTES, Marks


@pytest.fixture(autouse=True)
def _state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))


def test_two_commands_do_not_undo_each_others() -> None:
    """Each has begun before the other stored anything."""
    one, other = Marks("here"), Marks("here")
    for marks, head in ((one, b"a" * HEAD_BYTES), (other, b"b" * HEAD_BYTES)):
        marks.set(marks.identity_of(head), 5000, head)
    later = Marks("here")
    assert [later.place_of(later.identity_of(byte * HEAD_BYTES), 9000) for byte in (b"a", b"b", b"c")] == [
        5000,
        5000,
        0,
    ]
    elsewhere = Marks("elsewhere")
    assert elsewhere.place_of(elsewhere.identity_of(b"a" * HEAD_BYTES), 9000) == 0


def test_an_empty_file_is_like_no_other() -> None:
    """All files begin like it: a position in one that was empty says nothing of another."""
    marks = Marks("here")
    marks.set(marks.identity_of(b""), 5000, b"")
    head = b"x" * 400
    assert marks.place_of(marks.identity_of(head), 9000) == Marks("here").place_of(marks.identity_of(head), 9000) == 0


def test_files_that_begin_alike() -> None:
    """One that was short at the first reading is recognised when it has grown; one that only begins like it is another."""
    first, rest = b"# log of the gate\n", b"x" * HEAD_BYTES
    marks = Marks("here")
    short = marks.identity_of(first)
    marks.set(short, len(first), first)
    assert marks.identity_of(first + rest) == short
    marks.set(short, 5000, first + rest)
    for read in (marks, Marks("here")):
        assert read.identity_of(first + rest) == short and read.place_of(short, 9000) == 5000
        other = read.identity_of(first + b"y" * HEAD_BYTES)
        assert other != short and read.place_of(other, 9000) == 0
    assert marks.place_of(short, 10) == 0, "it has become shorter"


def test_short_files_that_begin_alike() -> None:
    """Also where none of them has a kilobyte: as many bytes count as were there."""
    first = b"# log of the gate\n"
    marks = Marks("here")
    short = marks.identity_of(first)
    marks.set(short, 400, first + b"x" * 382)
    assert marks.identity_of(first + b"x" * 500) == short
    assert marks.place_of(marks.identity_of(first + b"y" * 500), 518) == 0


@pytest.mark.parametrize("kept", ["", "many", "5000 and more", "\udcff"])
def test_a_position_that_cannot_be_read(kept: str, tmp_path: Path) -> None:
    """Then the file is read from its start: its reports have the same ids."""
    head = b"x" * HEAD_BYTES
    marks = Marks("here")
    identity = marks.identity_of(head)
    marks.set(identity, 5000, head)
    (place,) = tmp_path.glob("obitus/read-*/*")
    place.write_bytes(kept.encode("utf-8", "surrogateescape"))
    assert Marks("here").place_of(identity, 9000) == (5000 if kept.startswith("5000") else 0)
