"""What happens over the two weeks: which app runs in which release when, and what people decide on what they see.

Everything follows from the seed and from the moment the story ends, so that it is the same every time.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.clock import DAY_MS

DAYS: Final = 14
SEED: Final = 1871
PIERS: Final = ("merrow", "eastholm", "gannet-stack", "corrie-point")
NAMES: Final = ("Ida Moss", "Per Lund", "Aoife Byrne", "Zoë Hart", "Bram Vos", "Maëlle Roy", "Tom Reed", "Ana Cruz")


@dataclass(frozen=True)
class Act:
    """One request or job at one time: what is done, and with what."""

    time_ms: int
    what: str
    with_: dict[str, Any]


@dataclass(frozen=True)
class Player:
    """One running instance of an app: a release on a host for some days."""

    app: str
    release: str
    host: str
    environment: str
    first_day: int
    end_day: int
    acts_a_day: int
    dies_at_start: bool = False


PLAYERS: Final = (
    Player("sailings", "2.8.0", "pier-1", "production", 0, 7, 420),
    Player("gatekeeper", "2.8.0", "gate-1", "production", 0, 7, 110),
    Player("sailings", "2.9.0", "pier-1", "production", 7, DAYS, 480),
    Player("gatekeeper", "2.9.0", "gate-1", "production", 7, DAYS, 120),
    # One gate was forgotten when 2.9.0 was rolled out: what it meets is known and settled.
    Player("gatekeeper", "2.8.0", "gate-7", "production", 7, DAYS, 12),
    Player("gatekeeper", "2.9.0", "gate-test", "staging", 6, 7, 0, dies_at_start=True),
    Player("gatekeeper", "2.9.0", "gate-test", "staging", 13, DAYS, 0, dies_at_start=True),
)


@dataclass(frozen=True)
class Choice:
    """What somebody decides at the end of a day, on the issue of this type and place."""

    day: int
    app: str
    type: str
    place: str
    decision: str
    release: str | None = None


CHOICES: Final = (
    Choice(3, "sailings", "SailingFull", "sailings.boardings.board", "accept"),
    Choice(5, "gatekeeper", "ConnectionResetError", "gatekeeper.jobs._beat", "park"),
    Choice(6, "sailings", "FareUnknown", "sailings.fares.surcharge", "settle", "2.9.0"),
    Choice(6, "gatekeeper", "UnicodeEncodeError", "gatekeeper.passes.encode", "settle", "2.9.0"),
)


def acts_of(player: Player, day: int, start_ms: int) -> Iterator[Act]:
    """Yield what a player meets on one day, in order of time."""
    dice = random.Random(f"{SEED} {player.app} {player.host} {day}")
    times = sorted(start_ms + day * DAY_MS + int(dice.random() * (DAY_MS - 60_000)) for _ in range(player.acts_a_day))
    for time_ms in times:
        if player.app == "sailings":
            yield _request(dice, player, day, time_ms)
        else:
            yield _job(dice, day, time_ms)


def _request(dice: random.Random, player: Player, day: int, time_ms: int) -> Act:
    passenger = f"p-{dice.randint(101, 140)}"
    sailing = f"SK-{dice.randint(4000, 4999)}"
    kind = dice.random()
    if kind < 0.4:
        classes = ["none", "bicycle", "car", "car", "van"] * 4 + ["campervan"]
        if player.release != "2.8.0" and day >= 11:
            # Trailers came with the season: the fix of 2.9.0 did not think of them.
            classes.append("campervan with trailer")
        query = {"vehicle_class": dice.choice(classes), "passengers": dice.randint(1, 5)}
        return Act(time_ms, "GET", {"path": f"/sailings/{sailing}/fare", "query": query, "passenger": passenger})
    if kind < 0.65:
        # The winter timetable has a pier that no vessel calls at any more.
        goal = "old-quay" if dice.random() < 0.015 else dice.choice(PIERS)
        path = f"/timetable/{dice.choice(PIERS)}/connections"
        return Act(time_ms, "GET", {"path": path, "query": {"to": goal}, "passenger": passenger})
    body: dict[str, Any] = {"passenger": passenger}
    if dice.random() < 0.5:
        body["vehicle_height_m"] = round(dice.uniform(1.4, 4.25), 2)
    return Act(time_ms, "POST", {"path": f"/sailings/{sailing}/boardings", "body": body, "passenger": passenger})


def _job(dice: random.Random, day: int, time_ms: int) -> Act:
    kind = dice.random()
    if kind < 0.6:
        name = dice.choice(NAMES[:5]) if dice.random() < 0.5 else dice.choice(NAMES)
        return Act(time_ms, "print_pass", {"passenger": f"p-{dice.randint(101, 140)}", "name": name})
    if kind < 0.8:
        return Act(time_ms, "heartbeat", {"beats": dice.randint(1, 400)})
    rows: list[dict[str, Any]] = [
        {"row": i + 1, "weight_kg": str(dice.randint(800, 3200))} for i in range(dice.randint(3, 9))
    ]
    if dice.random() < 0.05:
        rows[-1]["weight_kg"] = ""
    if day >= DAYS - 1 and dice.random() < 0.2:
        rows[0] |= {"goods": True, "goods_class": ""}
    return Act(time_ms, "nightly_manifest", {"sailing": f"SK-{dice.randint(4000, 4999)}", "rows": rows})
