"""Compiled frames in stack traces that came as text: a path that looks local is not own code for that."""

from __future__ import annotations

import pytest

from obitus.core.frames import Frame, settle_relative
from obitus.core.stacks import find_stacks

TRACE = """Traceback (most recent call last):
  File "/srv/gate/manifest.py", line 12, in depth_of
    return table["{name}"]
  File "/srv/venv/lib/python3.11/site-packages/pandas/core/series.py", line 1121, in __getitem__
    return self._get_value(key)
  File "pandas/_libs/index.pyx", line 167, in pandas._libs.index.IndexEngine.get_loc
  File "pandas/_libs/hashtable_class_helper.pxi", line 7089, in pandas._libs.hashtable.PyObjectHashTable.get_item
KeyError: '{name}'
"""


def test_a_package_seen_as_library_is_library() -> None:
    """The innermost own frame is the one that asked, and not the compiled code that it asked."""
    (stack,) = find_stacks(TRACE.format(name="eastholm"))
    assert [frame.function for frame in stack.chain[0].frames if frame.own] == ["depth_of"]


@pytest.mark.parametrize(
    ("file", "beside", "own"),
    [
        ("src/lxml/etree.pyx", "/srv/gate/main.py", False),
        ("ferry/fast.pyx", "/srv/ferry/main.py", True),
        ("gate/main.py", "/srv/elsewhere/x.py", True),
        ("./gate.py", "/srv/gate/x.py", True),
    ],
)
def test_relative_paths(file: str, beside: str, own: bool) -> None:
    """Compiled code is own where its package is seen as own; a relative Python file is own where nothing says otherwise."""
    settled = settle_relative([Frame("main", file=beside), Frame("inner", file=file)])
    assert [frame.own for frame in settled] == [True, own]
