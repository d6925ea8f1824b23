"""What failing runs have in common: what is planted is found first; where nothing is planted hardly ever anything is named."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

import pytest

from obitus.core.against.contrast import Contrast, Run, contrast


def world(dice: random.Random) -> Callable[[], dict[str, Any]]:
    """Make up an app: hosts, releases, users, and attributes that mean nothing, some of which go together."""
    names = {f"x{i}": [f"v{j}" for j in range(dice.randint(2, 9))] for i in range(dice.randint(3, 12))}

    def values() -> dict[str, Any]:
        found: dict[str, Any] = {name: dice.choice(some) for name, some in names.items() if dice.random() < 0.9}
        found |= {"host.name": f"pier-{dice.randrange(6)}", "release": dice.choice(("3.0.1", "3.1.0")), "user.id": f"p-{dice.randrange(500)}", "run": str(dice.random())}  # fmt: skip
        found["zone"] = "north" if found["host.name"] in ("pier-0", "pier-1") else "south"
        found["passengers"] = dice.randrange(1, 60)
        return found

    return values


@pytest.mark.slow
def test_planted_is_found_first() -> None:
    """With 30 failing and 300 healthy runs and a lift of three: in 95 of 100, whether a value, a step or a number."""
    dice = random.Random(41)
    tried = first = 0
    for turn in range(150):
        values, how = world(dice), ("value", "step", "number")[turn % 3]
        share = dice.uniform(0.2, 0.3)

        def run(odds: float, values: Callable[[], dict[str, Any]] = values, how: str = how) -> Run:
            has, found, steps = dice.random() < odds, values(), [f"s{i}" for i in range(12) if dice.random() < 0.7]
            if how == "value":
                found["planted"] = "yes" if has else dice.choice(("no", "perhaps"))
            elif how == "number":
                found["planted"] = dice.uniform(41, 90) if has else dice.uniform(1, 39.9)
            elif has:
                steps.append("planted")
            return Run(found, steps)

        found = contrast([run(3 * share) for _ in range(30)], [run(share) for _ in range(300)])
        tried += 1
        first += bool(found.found) and "planted" in (found.found[0].name, found.found[0].value)
    assert first >= 0.95 * tried, (tried, first)


@pytest.mark.slow
def test_nothing_planted() -> None:
    """In at most one of twenty something is named."""
    dice = random.Random(43)
    named = 0
    for _ in range(300):
        values = world(dice)
        failing, healthy = ([Run(values(), [f"s{i}" for i in range(12) if dice.random() < 0.7]) for _ in range(count)] for count in (30, 300))  # fmt: skip
        named += bool(contrast(failing, healthy).found)
    assert named <= 0.05 * 300, named


def test_what_it_says_and_what_is_folded() -> None:
    """One sentence on top; what the same runs have is told with the stronger; other cuts of one number are not told again."""
    failing = [
        Run({"host.name": "pier-3", "rack": "b", "passengers": 50 + i % 9, "user.id": f"p-{i}"}, ["http tides"])
        for i in range(74)
    ]
    healthy = [Run({"host.name": f"pier-{i % 25}", "rack": "b" if i % 25 == 3 else "a", "passengers": 1 + i % 40, "user.id": f"p-{i}"}, ["http tides"]) for i in range(300)]  # fmt: skip
    found = contrast(failing, healthy)
    assert found.said == "All 74 failing runs have passengers >= 50, and none of the healthy ones do."
    of_host = next(one for one in found.found if one.name == "host.name")
    assert (of_host.value, of_host.failing, round(of_host.healthy_share, 2)) == (
        "pier-3",
        74,
        0.04,
    ) and of_host.folded == [("rack", "b")]
    assert [one.name for one in found.found].count("passengers") == 1
    assert not any(one.value == "http tides" for one in found.found)


def test_healthy_runs_stand_for_many() -> None:
    """Sampled as they are, healthy runs of a quiet entry point are too many: how many each stands for puts that right."""
    failing = [Run({"pier": "merrow"}) for _ in range(30)]
    sampled = [Run({"pier": "merrow" if i < 30 else "eastholm"}, (), 100.0 if i < 30 else 1.0) for i in range(60)]
    assert contrast(failing, sampled).found == [], "nearly all healthy runs come from there, too"
    assert contrast(failing, [run._replace(stands_for=1.0) for run in sampled]).found[0].value == "merrow"


@pytest.mark.parametrize(("failing", "healthy"), [(4, 300), (30, 19), (0, 0)])
def test_it_cannot_always_tell(failing: int, healthy: int) -> None:
    found: Contrast = contrast([Run({"a": 1})] * failing, [Run({"a": 2})] * healthy)
    assert found.found == [] and found.said.startswith("Cannot tell") and "are needed" in found.said


def test_what_is_odd() -> None:
    """A hundred thousand different values, texts without end, what is a number here and a text there, nothing at all."""
    dice = random.Random(3)
    odd = [
        Run(
            {
                f"n{dice.randrange(10**6)}": dice.choice((1, "1", True, None, "x" * 5000, [1])),
                "mixed": dice.choice((3, "three", 2.5)),
            }
        )
        for _ in range(20_000)
    ]
    found = contrast(odd[:5000], odd[5000:])
    assert len(found.found) <= 12 and contrast([Run({})] * 30, [Run({})] * 30).found == []
