"""The turning point: planted differences are named first, and where nothing is planted hardly ever anything is named."""

from __future__ import annotations

import random
import uuid
from collections.abc import Callable
from typing import Any

import pytest

from obitus.core.against.steps import Step, steps_of
from obitus.core.against.turning import LEAST_HEALTHY, Turning, side_by_side, turning_point

Trail = list[dict[str, Any]]


def app(dice: random.Random) -> Callable[[random.Random], Trail]:
    """Make up an entry point: some steps in order, some only now and then, a loop, and times of their own."""
    steps = [(dice.choice(("http", "statement", "log", "mark")), f"{dice.choice(('load', 'check', 'write', 'ask', 'count'))} {dice.choice(('berth', 'pier', 'fare', 'tide', 'pass', 'deck'))} {'abcdefghijklmnopqrstuvwxyz'[i]}x") for i in range(dice.randint(8, 22))]  # fmt: skip
    odds = [1.0 if dice.random() < 0.8 else dice.uniform(0.2, 0.9) for _ in steps]
    scales = [dice.uniform(1, 60) for _ in steps]
    loop = dice.randrange(len(steps))

    def run(noise: random.Random) -> Trail:
        found: Trail = []
        for place, (kind, words) in enumerate(steps):
            if noise.random() > odds[place]:
                continue
            for _ in range(noise.randint(1, 4) if place == loop else 1):
                attributes: dict[str, Any] = {}
                said = f"{words} {noise.randint(1, 9999)}"
                if kind in ("http", "statement"):
                    attributes["duration_ms"] = scales[place] * noise.lognormvariate(0, 0.3)
                if kind == "http":
                    said += " → 200"
                    attributes["http.response.status_code"] = 200
                if kind == "statement":
                    attributes |= {
                        "db.query.text": f"SELECT {words.split()[1]} {words.split()[2]} ?",
                        "db.response.returned_rows": 1,
                    }
                found.append({"kind": kind, "message": said, "attributes": attributes})
        # What goes on side by side comes in another order now and then, and a rare thing happens to some.
        for place in range(len(found) - 1):
            if noise.random() < 0.03:
                found[place], found[place + 1] = found[place + 1], found[place]
        if noise.random() < 0.01:
            found.insert(noise.randrange(len(found) + 1), {"kind": "log", "message": f"cache {noise.choice('pqr')}y was cold {uuid.UUID(int=noise.getrandbits(128))}", "attributes": {}})  # fmt: skip
        return found

    run.sure = [words for (_, words), odd in zip(steps, odds, strict=True) if odd == 1.0]  # type: ignore[attr-defined]
    return run


def planted(how: str, trail: Trail, sure: list[str], dice: random.Random) -> str | None:
    """Plant a difference, and return words of the step that it is; None where this run has no place for it."""
    places = [place for place, step in enumerate(trail) if any(step["message"].startswith(words) for words in sure)]
    if how in ("otherwise", "slower"):
        places = [place for place in places if trail[place]["kind"] in ("http", "statement")]
    if not places:
        return None
    place = dice.choice(places)
    step = trail[place]
    words = next(words for words in sure if step["message"].startswith(words))
    if how == "missing":
        trail[:] = [one for one in trail if not one["message"].startswith(words)]
    elif how == "added":
        trail.insert(
            place, {"kind": "statement", "message": "lock table zz", "attributes": {"db.query.text": "LOCK zz"}}
        )
        words = "LOCK zz"
    elif how == "otherwise" and step["kind"] == "http":
        step["message"], step["attributes"]["http.response.status_code"] = step["message"].replace("200", "204"), 204
    elif how == "otherwise":
        step["attributes"]["db.response.returned_rows"] = 0
    else:
        for one in trail:
            if one["message"].startswith(words):
                one["attributes"]["duration_ms"] = one["attributes"]["duration_ms"] * 5 + 30
    return words


@pytest.mark.slow
@pytest.mark.parametrize("how", ["missing", "added", "otherwise", "slower"])
def test_planted_differences_are_named(how: str) -> None:
    """First in nine of ten, among the first three in nearly all."""
    dice = random.Random(f"planted {how}")
    tried = first = three = 0
    for _ in range(60):
        run = app(dice)
        healthy = [steps_of(run(dice)) for _ in range(dice.randint(LEAST_HEALTHY, 60))]
        trail = run(dice)
        words = planted(how, trail, run.sure, dice)  # type: ignore[attr-defined]
        if words is None:
            continue
        tried += 1
        found = turning_point(steps_of(trail), healthy)
        named = [any(part in one.key for part in (words, " ".join(words.split()[1:]))) for one in found.differences]
        first += bool(named[:1] and named[0])
        three += any(named[:3])
    assert tried > 40 and first >= 0.9 * tried and three >= 0.97 * tried, (tried, first, three)


@pytest.mark.slow
def test_nothing_planted() -> None:
    """In at most one of twenty runs something is named that is not there."""
    dice = random.Random(97)
    named = sum(turning_point(steps_of((run := app(dice))(dice)), [steps_of(run(dice)) for _ in range(dice.randint(LEAST_HEALTHY, 60))]).named is not None for _ in range(200))  # fmt: skip
    assert named <= 0.05 * 200, named


def test_it_says_why() -> None:
    """What is said names the step, what healthy runs do, and what this one did."""
    load = {"kind": "statement", "message": "SELECT in 2 ms", "attributes": {"db.query.text": "select berth where pier = ?", "duration_ms": 2, "db.response.returned_rows": 1}}  # fmt: skip
    answer = {
        "kind": "http",
        "message": "GET tides/depth → 200",
        "attributes": {"http.response.status_code": 200, "duration_ms": 40},
    }
    healthy = [steps_of([load, answer])] * 20
    nothing = load | {"attributes": load["attributes"] | {"db.response.returned_rows": 0}}
    found = turning_point(steps_of([nothing]), healthy)
    assert (
        found.said
        == "In 20 of 20 healthy runs `statement select berth where pier = ?` gave 1 row; here it gave 0 rows."
    )
    assert [one.kind for one in found.differences] == ["otherwise", "missing"]
    assert (
        found.differences[1].said
        == "20 of 20 healthy runs go on with `http GET tides/depth`; this one ended before it."
    )
    slow = answer | {
        "message": "GET tides/depth → no answer (ReadTimeout)",
        "severity": "ERROR",
        "attributes": {"duration_ms": 800},
    }
    assert "gave 200; here it gave no answer (ReadTimeout)" in turning_point(steps_of([load, slow]), healthy).said
    assert "and nothing else" in turning_point(steps_of([load, answer]), healthy).said


def test_it_cannot_always_tell() -> None:
    """With too few healthy runs it says how many are needed; with none of its own steps, that; where healthy runs differ as much, that."""
    few = turning_point(steps_of([{"kind": "mark", "message": "x"}]), [[Step("a", "", None, "a")]] * 7)
    assert (
        few.named is None
        and few.said == "Cannot tell: 7 healthy runs of this entry point are kept whole, and 19 are needed."
    )
    assert "no step" in turning_point([], [[Step("a", "", None, "a")]] * 30).said
    each = [[Step("a", "", None, "a"), Step(f"own {i:x}y", "", None, "x")] for i in range(30)]
    found = turning_point([Step("a", "", None, "a"), Step("own", "", None, "x")], each)
    assert found.named is None and "these do unlike each other, too" in found.said


def test_what_is_odd_or_long() -> None:
    """Five thousand healthy runs, runs of a thousand steps, texts of a megabyte, markup, negative durations: an answer soon."""
    dice = random.Random(5)
    trail = [
        {
            "kind": "log",
            "message": f"step {dice.choice('abcdef')}x <b>\x1b" + "y" * 10,
            "attributes": {"duration_ms": -4},
        }
        for _ in range(1000)
    ]
    trail[3]["message"] = "x" * 1_000_000
    healthy = [steps_of(trail)] * 5000
    found: Turning = turning_point(steps_of([*trail[:500], {"kind": "mark", "message": "odd"}]), healthy)
    assert found.healthy == 60 and found.named is not None
    pairs = side_by_side(healthy[0], healthy[1])
    assert pairs and all(one == other for one, other in pairs)


def test_side_by_side() -> None:
    a = [Step(key, "", None, key) for key in "abxcd"]
    b = [Step(key, "", None, key) for key in "abcde"]
    assert side_by_side(a, b) == [(0, 0), (1, 1), (2, None), (3, 2), (4, 3), (None, 4)]
    assert side_by_side([], b) == [(None, place) for place in range(5)]


def test_more_or_less_often_than_usual() -> None:
    """A step that is there, but once where it comes three times in nearly all healthy runs; and one that is repeated."""

    def run(pings: int) -> list[Step]:
        return [Step("mark begun", "INFO", None, ""), *(Step("http GET tides", "200", 4.0, "") for _ in range(pings)), Step("mark ended", "INFO", None, "")]  # fmt: skip

    healthy = [run(3) for _ in range(30)]
    fewer, more = turning_point(run(1), healthy), turning_point(run(9), healthy)
    assert fewer.named is not None and (fewer.named.kind, fewer.named.key) == ("missing", "http GET tides")
    assert (
        fewer.said == "`http GET tides` comes once here; in 30 of 30 healthy runs it comes more often, mostly 3 times."
    )
    assert more.named is not None and more.named.kind == "added" and "comes 9 times here" in more.said
    varied = [run(1 + number % 9) for number in range(30)]
    assert turning_point(run(1), varied).named is None and turning_point(run(9), varied).named is None
