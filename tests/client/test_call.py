"""The call that failed, as the client keeps it: how its function is reached, with what it was called, and nothing that runs the app's code."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from obitus.client import call as call_module
from obitus.client.capture import Capture
from obitus.core.redaction import Redactor
from obitus.core.redaction.rules import parse_rule
from obitus.core.reproducing.call import About, as_test
from tests.client.interpreters import every_version, script
from tests.written_tests import run_test

CODE = '''
import contextlib, functools, weakref

class Sailing:
    HELD = []
    def __init__(self, base, boats):
        if not boats:
            raise ValueError("no boats")
        self.base, self.boats = base, boats
        self.seen = {}
    def fare(self, vehicle, *more, day=None, **rest):
        return self.base * vehicle["height"]
    def __hidden(self, at):
        return self.boats[at]
    def through(self, at):
        return self.__hidden(at)
    @property
    def first(self):
        return self.boats[9]
    @classmethod
    def of(cls, name):
        return cls.HELD[0]
    @staticmethod
    def plain(x, /, y, *, z):
        return x + y + z
    @functools.lru_cache
    def cached(self, x):
        return self.boats[x]

class Evening(Sailing):
    def fare(self, vehicle, *more, day=None, **rest):
        return super().fare(vehicle, *more, day=day, **rest)

def changed(x):
    x = x + 1
    return x / 0

def nested(x):
    def inner(y):
        return y[x]
    return inner([])

def comprehended(rows):
    return [row["weight"] for row in rows]

async def waits(x):
    return x.y

async def gives(x):
    yield 1
    yield x[1]

def made(x):
    yield x
    yield x[1]

class Loud:
    """Whatever is asked of it says so."""
    ASKED = []
    def __getattr__(self, name): Loud.ASKED.append(name); raise RuntimeError
    def __getattribute__(self, name): Loud.ASKED.append(name); raise RuntimeError
    def __repr__(self): Loud.ASKED.append("repr"); raise RuntimeError
    def __iter__(self): Loud.ASKED.append("iter"); raise RuntimeError
    def __len__(self): Loud.ASKED.append("len"); raise RuntimeError
    def __eq__(self, other): Loud.ASKED.append("eq"); raise RuntimeError
    def __hash__(self): return 1
    def __del__(self): Loud.ASKED.append("del")
    def __reduce__(self): Loud.ASKED.append("reduce"); raise RuntimeError

def loud(thing):
    raise KeyError("x")
'''  # fmt: skip


@pytest.fixture(scope="module")
def fares(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A module of an app, on the path."""
    folder = tmp_path_factory.mktemp("app")
    (folder / "skerry_fares.py").write_text(CODE)
    sys.path.insert(0, str(folder))
    import skerry_fares

    yield skerry_fares
    sys.path.remove(str(folder))
    del sys.modules["skerry_fares"]


def chain_of(work: Any) -> list[dict[str, Any]]:
    try:
        work()
    except Exception as error:
        return Capture(Redactor()).chain(error)
    raise AssertionError("nothing failed")


def call_of(work: Any) -> dict[str, Any]:
    (call,) = [frame["call"] for link in chain_of(work) for frame in link["frames"] if "call" in frame]
    return call


def run_all(values: Any) -> None:
    import asyncio

    async def read() -> None:
        async for _ in values:
            pass

    asyncio.run(read())


def cases(m: Any) -> dict[str, Any]:
    import asyncio

    sailing, evening = m.Sailing(2, [1]), m.Evening(2, [1])
    return {
        "method": lambda: sailing.fare({"height": None}, 1, (2,), day="Mon", zone="UTC"),
        "inherited": lambda: evening.fare({"height": None}),
        "private": lambda: sailing.through(7),
        "property": lambda: sailing.first,
        "class": lambda: m.Sailing.of("x"),
        "static": lambda: m.Sailing.plain(1, "2", z=3),
        "wrapped": lambda: sailing.cached(5),
        "made": lambda: m.Sailing(1, boats=[]),
        "coroutine": lambda: asyncio.run(m.waits(3)),
        "async generator": lambda: run_all(m.gives([1])),
        "generator": lambda: list(m.made([1])),
        "nested": lambda: m.nested(4),
        "comprehension": lambda: m.comprehended([{"weight": 1}, {}]),
    }


@pytest.mark.parametrize("which", cases(type("M", (), {"Sailing": lambda *_: None, "Evening": lambda *_: None})()))
def test_the_test_that_is_made_of_it_fails_the_same(fares: Any, tmp_path: Path, which: str) -> None:
    """At the same line with the same type, in another process, unedited: whatever kind of function it is."""
    chain = chain_of(cases(fares)[which])
    made = as_test({"exceptions": chain}, About(1, "sailings", "2026-11-20T10:00:00Z", ""))
    assert not made.missing, made.text
    done = run_test(tmp_path, made.name, made.text, Path(fares.__file__).parent)
    own = [frame for frame in chain[0]["frames"] if frame["module"] == "skerry_fares"][-1]
    assert done.returncode == 1, made.text + done.stdout
    assert f"skerry_fares.py:{own['line']}" in done.stdout and chain[0]["type"] in done.stdout, made.text + done.stdout


def test_nothing_of_the_app_is_run(fares: Any) -> None:
    """An object that notices whatever is asked of it notices nothing."""
    thing = fares.Loud()
    call = call_of(lambda: fares.loud(thing))
    assert fares.Loud.ASKED == [] and call["values"]["thing"]["class"] == "skerry_fares:Loud"


def test_another_value_is_said(fares: Any) -> None:
    """A parameter that the function gave another value to."""
    call = call_of(lambda: fares.changed(3))
    assert call["arguments"] == [{"name": "x", "kind": "plain", "changed": True}] and call["values"] == {"x": 4}
    made = as_test({"exceptions": chain_of(lambda: fares.changed(3))}, About(1, "s", "2026-11-20T10:00:00Z", ""))
    assert "x had been given another value" in made.text


def test_each_place_is_kept_some_times(fares: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """Three times, and once a minute afterwards."""
    capture, clock = Capture(Redactor()), [100.0]
    monkeypatch.setattr(time, "monotonic", lambda: clock[0])

    def is_kept() -> bool:
        try:
            fares.changed(3)
        except ZeroDivisionError as error:
            return any("call" in frame for frame in capture.chain(error)[0]["frames"])
        return False

    assert [is_kept() for _ in range(5)] == [True] * call_module.OF_A_PLACE + [False] * 2
    clock[0] += call_module.AGAIN_AFTER_S
    assert [is_kept(), is_kept()] == [True, False]


def test_values_off_means_no_call(fares: Any) -> None:
    """Who sends no local values sends none in this form either."""
    try:
        fares.changed(3)
    except ZeroDivisionError as error:
        chain = Capture(Redactor(), values=False).chain(error)
    assert not any("call" in frame for frame in chain[0]["frames"])


def test_rules_hide_in_it_too(fares: Any) -> None:
    """By name, by a path to the locals, by shape: what is hidden among the local values is hidden here."""
    chain = chain_of(
        lambda: fares.loud({"vessel_pin": "4711", "card": "4539 1488 0343 6467", "deep": {"why": "eelpot"}})
    )
    report = {"kind": "failure", "exceptions": chain}
    Redactor([parse_rule("name vessel pin")]).report(report)
    text = json.dumps(report)
    assert "4711" not in text and "4539" not in text and "eelpot" in text
    Redactor([parse_rule("path exceptions.frames.locals.thing")]).report(report)
    frame = chain[0]["frames"][-1]
    assert "eelpot" not in json.dumps([frame["call"], frame["locals"]])


def test_unreachable_ones_say_why() -> None:
    """A function that is made while the app runs has no name that leads to it."""

    def made(x: int) -> float:
        return x / 0

    made.__qualname__ = "made"
    assert "unreachable" in call_of(lambda: made(1))


EVERY = """
import asyncio, sys, traceback
from pathlib import Path
sys.path.insert(0, str(Path(__file__).parent))
Path("skerry_fares.py").write_text(Path(sys.argv[1]).read_text())
import skerry_fares as m
from obitus.client.capture import Capture
from obitus.core.redaction import Redactor
from obitus.core.reproducing.call import About, as_test

sailing = m.Sailing(2, [1])
async def read(values):
    async for _ in values: pass
for work in (
    lambda: sailing.fare({"height": None}, 1, (2,), day="Mon", zone="UTC"), lambda: sailing.through(7), lambda: sailing.first,
    lambda: m.Sailing.of("x"), lambda: m.Sailing.plain(1, "2", z=3), lambda: sailing.cached(5), lambda: m.Sailing(1, boats=[]),
    lambda: asyncio.run(m.waits(3)), lambda: asyncio.run(read(m.gives([1]))), lambda: list(m.made([1])), lambda: m.nested(4),
    lambda: m.comprehended([{"weight": 1}, {}]),
):
    try: work()
    except Exception as error:
        chain, first = Capture(Redactor()).chain(error), traceback.extract_tb(error.__traceback__)
    made = as_test({"exceptions": chain}, About(1, "s", "2026-11-20T10:00:00Z", ""))
    assert not made.missing, made.text
    names = {}
    exec(compile(made.text, "written", "exec"), names)
    try: next(names[name] for name in names if name.startswith("test_"))()
    except Exception as error:
        again = traceback.extract_tb(error.__traceback__)
        assert type(error).__name__ == chain[0]["type"], made.text
    places = [[f.lineno for f in found if f.filename.endswith("skerry_fares.py")][-1] for found in (first, again)]
    assert places[0] == places[1], (places, made.text)
try: m.changed(1)
except Exception as error: call = Capture(Redactor()).chain(error)[0]["frames"][-1]["call"]
assert call["arguments"] == [{"name": "x", "kind": "plain", "changed": True}], call
print("all the same")
"""


@every_version
def test_on_every_version(fares: Any, tmp_path: Path, python: str) -> None:
    """Bytecode and frames differ from one Python to the next; what is kept of a call does not."""
    done = script(python, tmp_path, EVERY, fares.__file__)
    assert done.stdout == "all the same\n", done.stderr
