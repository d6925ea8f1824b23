"""What a coding assistant is given to read."""

from __future__ import annotations

import json
from typing import Any

import pytest

from obitus.core.assistants import MOST_CHARACTERS, Assistant


@pytest.mark.parametrize("count", [0, 1, 3, 5000])
def test_of_a_long_timeline_the_end_is_read(count: int) -> None:
    """The failure is at its end: what is left out is at the beginning, and is counted."""
    entries = [{"time": f"{number:06}", "kind": "log", "said": f"gate {number} " * 5} for number in range(count)]

    def ask(method: str, path: str, body: Any) -> Any:
        if path.startswith("/api/timeline?failure=f-7"):
            return {"entries": entries, "worked": None, "notes": []}
        return {"latest": {"id": "f-7", "report": None, "gone": ""}}

    text = Assistant(ask, lambda: "0" * 16).read_timeline(4)
    assert len(text) < MOST_CHARACTERS
    first, *inside, last = text.split("\n")
    assert first == "DATA 0000000000000000" and last == "END OF DATA 0000000000000000"
    read = json.loads("\n".join(inside))
    shown = read["entries"]
    assert shown == entries[count - len(shown) :] and read["earlier_entries_left_out"] == count - len(shown)
    assert len(shown) == count if count < 10 else 50 < len(shown) < 500


def test_one_entry_that_is_too_long_is_there() -> None:
    """Then its end is cut, and the answer says so."""
    entry = {"time": "1", "kind": "log", "said": "x" * 2 * MOST_CHARACTERS}
    answers = {"/api/issues/4?window=14d": {"latest": {"id": "f-7"}}}
    timeline = {"entries": [{"time": "0"}, entry], "worked": None, "notes": []}
    text = Assistant(lambda method, path, body: answers.get(path, timeline), lambda: "m").read_timeline(4)
    assert "xxx" in text and text.endswith("characters are shown.")
