"""Python's stack traces as text, written by real interpreters, read into chains of frames."""

from __future__ import annotations

import subprocess
import sys
import traceback

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.frames import ChainLink
from obitus.core.stacks import find_stacks

PROGRAM = """
def a():
    raise KeyError("pier")
def b():
    try: a()
    except KeyError as e: raise ValueError("two\\nlines") from e
def c():
    try: b()
    except ValueError as e: raise RuntimeError("while handling")
def group():
    found = []
    for f in (a, b):
        try: f()
        except Exception as e: found.append(e)
    raise ExceptionGroup("many", found)
def again(n): return again(n + 1)
def syntax(): compile("berth = = 1", "conf.py", "exec")
def crash():
    import ctypes, faulthandler
    faulthandler.enable(); ctypes.string_at(0)
"""


def written(call: str) -> str:
    """Return what a real interpreter writes as it dies of this."""
    return subprocess.run([sys.executable, "-c", f"{PROGRAM}\n{call}()"], capture_output=True, text=True).stderr


def only(text: str) -> tuple[ChainLink, ...]:
    (found,) = find_stacks(text)
    return found.chain


def test_a_chain() -> None:
    """Causes and contexts come from the outermost to the root; messages keep their lines."""
    chain = only(written("c"))
    assert [(link.relation, link.type, link.message) for link in chain] == [
        (None, "RuntimeError", "while handling"), ("context", "ValueError", "two\nlines"), ("cause", "KeyError", "'pier'"),
    ]  # fmt: skip
    assert [frame.function for frame in chain[0].frames] == ["<module>", "c"] and chain[0].frames[-1].line is not None


def test_a_group() -> None:
    """Members follow the group, each with its own frames."""
    chain = only(written("group"))
    assert chain[0].type == "ExceptionGroup" and [link.relation for link in chain[1:]] == ["member", "member", "cause"]
    assert {link.type for link in chain[1:]} == {"KeyError", "ValueError"} and all(link.frames for link in chain)


@pytest.mark.parametrize(
    ("call", "type_name", "innermost"),
    [
        ("again", "RecursionError", "again"),
        ("syntax", "SyntaxError", "<source>"),
        ("crash", "FatalPythonError", "string_at"),
    ],
)
def test_special_ends(call: str, type_name: str, innermost: str) -> None:
    """Repeated frames, the place of a syntax error, and what faulthandler writes, innermost last."""
    text = written("again(0) or again" if call == "again" else call)
    chain = only(text)
    assert chain[0].type == type_name and chain[0].frames[-1].function == innermost


def test_inside_a_log() -> None:
    """Several traces among other lines are found where they stand, library frames told from own ones."""
    text = f"2026-03-01 04:05:06 INFO up\n{written('a')}2026-03-01 04:05:07 INFO next\n{written('b')}done\n"
    first, second = find_stacks(text)
    assert first.first_line == 1 and text.splitlines()[first.end_line] == "2026-03-01 04:05:07 INFO next"
    assert second.chain[0].type == "ValueError" and first.language == "python"
    try:
        subprocess.run(["/no/such"])
    except OSError:
        chain = only(traceback.format_exc())
    assert next(frame.own for frame in chain[0].frames) is True and chain[0].frames[-1].own is False


def test_cut_off() -> None:
    """A trace that stops in the middle still says how far it got."""
    text = "\n".join(written("c").splitlines()[:3])
    chain = only(text)
    assert chain[0].frames and chain[0].type.startswith("unknown")


@given(st.lists(st.sampled_from([
    "Traceback (most recent call last):", '  File "a.py", line 1, in f', "    go()", "ValueError: x", "", "    ^^^", "  | ",
    "  + Exception Group Traceback (most recent call last):", "  +-+---------------- 1 ----------------", "Fatal Python error: x",
    "During handling of the above exception, another exception occurred:", "Current thread 0x0 (most recent call first):", "SyntaxError: y", "x" * 300,
]), max_size=60))  # fmt: skip
def test_never_raises(lines: list[str]) -> None:
    """Whatever order the pieces come in, reading ends, and what is found lies within the text, in order."""
    found = find_stacks("\n".join(lines))
    places = [(one.first_line, one.end_line) for one in found]
    assert all(0 <= first < end <= len(lines) for first, end in places) and places == sorted(places)
