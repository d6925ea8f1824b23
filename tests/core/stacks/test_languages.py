"""Stack traces of ten languages, as real programs wrote them (Dart's after its documentation), read into one kind of frame."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.stacks import LANGUAGES, find_stacks, report_form
from tests.growth import growth, seconds

TEXTS = Path(__file__).parent / "texts"

# Text → language, the chain as (relation, type, message), the innermost own frame as (module, function, file, line).
WANTED = {
    "java": (
        "java",
        [(None, "Gate$GangwayUp", "gate 7\nis shut"), ("context", "java.lang.IllegalStateException", "still wet"),
         ("cause", "java.lang.NumberFormatException", 'For input string: "x7"')],
        ("Gate", "berth", "Gate.java", 4),
    ),
    "cs": (
        "csharp",
        [(None, "Skerry.GangwayUp", "gate 7 is shut"), ("cause", "System.FormatException", "The input string 'x7' was not in a correct format.")],
        ("Skerry.Gate", "Berth", "Gate.cs", 12),
    ),
    "node": (
        "javascript",
        [(None, "TideError", "gate is shut"), ("cause", "RangeError", "no berth x7")],
        ("", "berth", "gate.mjs", 2),
    ),
    "agg": (
        "javascript",
        [(None, "AggregateError", "both gone"), ("member", "TypeError", "one"), ("member", "RangeError", "two")],
        ("", "Timeout.later", "agg.js", 2),
    ),
    "firefox": ("javascript", [(None, "RangeError", "no berth x7")], ("", "berth", "gate.js", 3)),
    "go": (
        "go",
        [(None, "runtime error", "index out of range [7] with length 3"), ("context", "panic", "gate is shut")],
        ("main", "Gate.Open", "gate.go", 12),
    ),
    "go_error": ("go", [(None, "error", "no berth")], ("main", "open", "gate.go", 12)),
    "go_serving": (
        "go",
        [(None, "runtime error", "index out of range [7] with length 3")],
        ("main", "Gate.Open", "gate.go", 12),
    ),
    "rb": (
        "ruby",
        [(None, "Skerry::GangwayUp", "gate is shut"), ("cause", "ArgumentError", 'invalid value for Integer(): "x7"')],
        ("", "Integer", "gate.rb", 3),
    ),
    "rb2": ("ruby", [(None, "RuntimeError", "no berth")], ("", "berth", "gate.rb", 3)),
    "rails": ("ruby", [(None, "Skerry::GangwayUp", "gate is shut")], ("", "open", "gate.rb", 18)),
    "rails_syslog": ("ruby", [(None, "Skerry::GangwayUp", "gate 7 is shut")], ("", "open", "gate.rb", 18)),
    "php": (
        "php",
        [(None, "Skerry\\GangwayUp", "gate is shut"), ("cause", "InvalidArgumentException", "no berth x7")],
        ("Skerry\\Gate", "berth", "Gate.php", 8),
    ),
    "rust": ("rust", [(None, "panic", "index out of bounds: the len is 3 but the index is 7")], ("gate::Gate", "open", "gate.rs", 1)),
    "rust_old": ("rust", [(None, "panic", "no berth x7")], ("", "<panic>", "gate.rs", 12)),
    "perl": ("perl", [(None, "die", "no berth 7")], ("Gate", "berth", "gate.pl", 2)),
    "dart": ("dart", [(None, "RangeError", "Invalid value: Not in inclusive range 0..2: 5")], ("skerry/gate", "Gate.open", "gate.dart", 12)),
    "dart_app": ("dart", [(None, "StateError", "No element")], ("skerry/board", "Board.build", "board.dart", 33)),
    "dart_short": ("dart", [(None, "StateError", "No element")], ("skerry/board", "Board.build", "board.dart", 33)),
}  # fmt: skip


def text_of(name: str) -> str:
    return (TEXTS / f"{name}.txt").read_text("utf-8")


@pytest.mark.parametrize("name", WANTED)
def test_real_traces(name: str) -> None:
    """Language, chain, messages, and the place of the fault are those that a person would read."""
    language, chain, innermost = WANTED[name]
    (found,) = find_stacks(text_of(name))
    assert found.language == language
    assert [(link.relation, link.type, link.message) for link in found.chain] == chain
    root = next(link for link in reversed(found.chain) if link.frames)
    frame = next(frame for frame in reversed(root.frames) if frame.own)
    assert (frame.module, frame.function, frame.file.rpartition("/")[2], frame.line) == innermost


def test_own_code_is_told_from_libraries() -> None:
    """Standard libraries and installed packages are library code in every language."""
    libraries = {"java.lang.Iterable", "System.Int32", "runtime", "core::ops::function::FnOnce"}
    seen = {frame.module for name in WANTED for found in find_stacks(text_of(name)) for link in found.chain for frame in link.frames if not frame.own}  # fmt: skip
    assert libraries <= seen and not {"Gate", "Skerry.Gate", "main", "gate::Gate"} & seen


def test_shared_frames_are_filled_in() -> None:
    """What Java leaves out as `… n more` is taken from the trace around it."""
    (found,) = find_stacks(text_of("java"))
    cause = found.chain[-1]
    assert [frame.function for frame in cause.frames][:2] == ["main", "forEach"] and len(cause.frames) == 9


def test_many_in_one_log() -> None:
    """All of them in one log, between other lines, are each found once, in order, in their own language."""
    names = sorted(WANTED)
    lines = [
        f"2026-03-01 04:05:0{i % 10} INFO pier up\n{text_of(name)}\n2026-03-01 ok\n" for i, name in enumerate(names)
    ]
    found = find_stacks("\n".join(lines))
    assert [one.language for one in found] == [WANTED[name][0] for name in names]
    assert all(one.end_line <= later.first_line for one, later in pairwise(found))


PIECES = [line for name in WANTED for line in text_of(name).splitlines()]


@given(st.lists(st.sampled_from(PIECES) | st.text(max_size=80), max_size=60))
def test_never_raises(lines: list[str]) -> None:
    """Whatever pieces stand in whatever order, reading ends, and what is found lies in the text, in order, apart."""
    text = "\n".join(lines)
    found = find_stacks(text)
    count = len(text.splitlines())
    places = [(one.first_line, one.end_line) for one in found]
    assert all(0 <= first < end <= count for first, end in places)
    assert all(one[1] <= later[0] for one, later in pairwise(places))


@given(st.sampled_from(sorted(WANTED)), st.integers(0, 2000))
def test_cut_off_anywhere(name: str, length: int) -> None:
    """A trace that stops in the middle of a frame still gives the frames before it, and never raises."""
    find_stacks(text_of(name)[:length])


@pytest.mark.parametrize(
    "piece",
    [
        "at ",
        "a.b",
        "at a.b(",
        "#0 x(1): ",
        "\tfrom x.rb:1:in `",
        " called at x line 1",
        "(" * 50,
        "at a" + " " * 50,
        "x@y:1",
        "panicked at '",
        "a " * 40,
        "<" * 40 + ">",
        "]",
        "in Stack trace:Error: ",
        '"\\n',
        "\\n",
        "a" * 60 + " |",
        "2026-11-25 10:00:00 ERROR  called at <",
        ".rb:1:in `]",
        "(dart:",
    ],
)
def test_no_line_takes_long(piece: str) -> None:
    """One line of a megabyte, or thousands that almost match, is read in time that grows with its length alone."""

    find_stacks(piece * 10)
    small, large = ("\n".join([piece * 50] * lines) for lines in (40, 400))
    # Ten times the text: a quadratic reader would take a hundred times as long.
    times = growth(lambda: find_stacks(small), lambda: find_stacks(large), 40)
    assert times < 40 or seconds(lambda: find_stacks(large)) < 0.05
    find_stacks(piece * (1_000_000 // len(piece)))


def test_every_language_has_texts() -> None:
    """No reader is without a real trace that it is tested on."""
    assert {language for language, _, _ in WANTED.values()} | {"python"} == set(LANGUAGES)


@pytest.mark.parametrize(
    "line",
    [
        "    at quote (https://pier.skerry.example/assets/index-8f3c.js:1:48213)",
        "    at async https://pier.skerry.example/assets/index-8f3c.js:1:48213",
        "quote@https://pier.skerry.example/assets/index-8f3c.js:1:48213",
    ],
)
def test_the_column_is_kept(line: str) -> None:
    """Code on one long line has hardly anything else to go by; what has none says none."""
    (found,) = find_stacks(f"TypeError: no fare\n{line}\n")
    assert [(frame.line, frame.column) for frame in found.chain[0].frames] == [(1, 48213)]
    (frame,) = report_form(found.chain)[0]["frames"]
    assert frame["column"] == 48213
    (other,) = find_stacks('Traceback (most recent call last):\n  File "/srv/a.py", line 3, in f\nKeyError: 1\n')
    assert "column" not in report_form(other.chain)[0]["frames"][0]
