"""What real programs in eight languages wrote as they died: the innermost frame is the one that the program marks."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.grouping.fault import innermost, locate
from obitus.core.stacks import FoundStack, find_stacks, stack_of

RECORDED = [json.loads(line) for line in (Path(__file__).parent / "recorded.ndjson").read_text("utf-8").splitlines()]


def last(text: str) -> FoundStack:
    return find_stacks(text)[-1]


def test_every_language_is_there() -> None:
    """No language's recordings got lost."""
    counted = Counter(one["language"] for one in RECORDED)
    assert min(counted["perl"], counted["javascript"]) >= 20
    assert (
        set(counted) == {"java", "javascript", "go", "ruby", "php", "perl", "rust", "csharp"}
        and min(counted.values()) >= 4
    )


@pytest.mark.parametrize(
    "one", RECORDED, ids=lambda one: " ".join((one["language"], one["fault"], one.get("form", ""))).strip()
)
def test_the_innermost_frame(one: dict[str, Any]) -> None:
    """Function, file and line of the place that raised; the runtime's own machinery is left out."""
    found = last(one["text"])
    inner = innermost(locate(found.chain).link)
    assert inner is not None and found.language == one["language"]
    assert (inner.function, inner.file.rpartition("/")[2], inner.line) == (one["function"], one["file"], one["line"])


OPENS = {"perl": r"^\s*sub (\w+)", "php": r"^\s*(?:\w+ )*function (\w+)\(", "ruby": r"^\s*def (?:self\.)?(\w+)"}


def test_names_and_places_belong_together() -> None:
    """Where a language writes who was called and from where, each name gets the place inside of it, not the one it was called from."""
    looked_at = Counter[str]()
    for one in RECORDED:
        opens = OPENS.get(one["language"])
        if opens is None:
            continue
        (path,) = (Path(__file__).parent / "programs").rglob(one["file"])
        lines = path.read_text().splitlines()
        named = {found[1] for line in lines if (found := re.match(opens, line))}
        for frame in (frame for link in last(one["text"]).chain for frame in link.frames):
            name = re.split(r"[.#:]", frame.function)[-1]
            if frame.file.endswith(one["file"]) and name in named and frame.line is not None:
                above = next(found[1] for line in reversed(lines[: frame.line]) if (found := re.match(opens, line)))
                assert above == name, (one["language"], one["fault"], frame)
                looked_at[one["language"]] += 1
    assert set(looked_at) == set(OPENS) and min(looked_at.values()) > 3, looked_at


PREFIXES = {
    "time, level, thread": "2026-11-25 10:00:01,123 ERROR [gate-3] ",
    "syslog": "Nov 25 10:00:01 pier-1 gate[411]: ",
    "container": "gate-1  | ",
    "rfc 3339": "2026-11-25T10:00:01.123Z stderr F ",
    "brackets": "[2026-11-25 10:00:01] [error] ",
}


@pytest.mark.parametrize("prefix", PREFIXES.values(), ids=PREFIXES.keys())
def test_behind_a_prefix_on_each_line(prefix: str) -> None:
    """A trace is the same with what log writers put before each of its lines."""
    missed = []
    for one in RECORDED:
        plain = locate(last(one["text"]).chain).link
        logged = find_stacks("\n".join(prefix + line for line in one["text"].splitlines()))
        if not logged or innermost(locate(logged[-1].chain).link) != innermost(plain):
            missed.append((one["language"], one["fault"]))
    assert len(missed) * 100 <= len(RECORDED), missed


def test_wrapped_by_json() -> None:
    """A trace in one line of JSON, its line ends escaped, is the same."""
    for one in RECORDED:
        text = json.dumps({"level": "error", "time": "2026-11-25T10:00:01Z", "error": {"stack": one["text"]}})
        (found,) = find_stacks(f"up\n{text}\ndown\n") or [None]
        assert found is not None and found.first_line == 1, (one["language"], one["fault"])
        assert innermost(locate(found.chain).link) == innermost(locate(last(one["text"]).chain).link)


@given(st.sampled_from(RECORDED), st.integers(0, 2000))
def test_cut_off_anywhere(one: dict[str, Any], at: int) -> None:
    """A text that stops in the middle of a frame never breaks the reader."""
    for found in find_stacks(one["text"][:at]):
        locate(found.chain)


@given(st.lists(st.sampled_from(RECORDED), min_size=2, max_size=2), st.randoms(use_true_random=False))
def test_two_processes_interleaved(two: list[dict[str, Any]], draw: Any) -> None:
    """Two programs that die into one stream at once never break the reader; with container names, both are whole."""
    lines = [one["text"].splitlines() for one in two]
    mixed, named = [], []
    waiting = [list(one) for one in lines]
    while any(waiting):
        which = draw.choice([i for i in (0, 1) if waiting[i]])
        line = waiting[which].pop(0)
        mixed.append(line)
        named.append(f"gate-{which}  | {line}")
    find_stacks("\n".join(mixed))
    told = [innermost(locate(found.chain).link) for found in find_stacks("\n".join(named))]
    assert all(innermost(locate(last(one["text"]).chain).link) in told for one in two)


@pytest.mark.parametrize(
    ("text", "language", "function"),
    [
        ('  File "/srv/fares.py", line 3, in quote\n    return fares[kind]\n', "python", "quote"),
        ("/srv/gate.rb:3:in `open'\n/srv/gate.rb:9:in `<main>'", "ruby", "open"),
        ("#0 /srv/gate.php(9): Gate->open(7)\n#1 {main}", "php", "open"),
        ("    at open (/srv/gate.js:3:9)\n    at /srv/gate.js:9:1", "javascript", "open"),
        ("\tat skerry.Gate.open(Gate.java:3)\n\tat skerry.Gate.main(Gate.java:9)", "java", "open"),
        ("goroutine 7 [running]:\nmain.open(0x7)\n\t/srv/gate.go:3 +0x1d\n", "go", "open"),
    ],
)
def test_frames_alone(text: str, language: str, function: str) -> None:
    """Senders that give type and message apart may send the frames alone; what they gave is the type."""
    found = stack_of("GangwayUp", "pier 7", text)
    inner = innermost(found.chain[0])
    assert found.language == language and inner is not None and inner.function == function
    assert (found.chain[0].type, found.chain[0].message) == ("GangwayUp", "pier 7")


def test_python_as_it_runs_here(tmp_path: Path) -> None:
    """Real traces of this interpreter: decorators, comprehensions, async, classes, generators; the marked line is innermost."""
    program = """import asyncio, functools
def wrapped(f):
    @functools.wraps(f)
    def inner(*a): return f(*a)
    return inner
class Gate:
    @wrapped
    def open(self, pier): raise ValueError(pier) # FAULT open
    @property
    def level(self): return {}["x"] # FAULT level
    def berths(self): return [int(x) for x in "a"] # FAULT berths
    async def later(self): await asyncio.sleep(0); None.x # FAULT later
    def each(self):
        yield 1
        yield 1 / 0 # FAULT each
g = Gate()
import sys
{"open": lambda: g.open(7), "level": lambda: g.level, "berths": lambda: g.berths(), "later": lambda: asyncio.run(g.later()), "each": lambda: list(g.each())}[sys.argv[1]]()
"""
    path = tmp_path / "gate.py"
    path.write_text(program)
    for number, line in enumerate(program.splitlines(), 1):
        _, marked, name = line.partition("# FAULT ")
        if marked:
            ended = subprocess.run([sys.executable, str(path), name], capture_output=True, text=True)
            inner = locate(last(ended.stderr).chain).site
            assert inner is not None and (inner.function, inner.line) == (name, number)
