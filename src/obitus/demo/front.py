"""The access log of the web server in front of sailings, in the W3C extended format: most requests go through, and for a quarter of an hour none does."""

from __future__ import annotations

import random
from datetime import UTC, datetime
from typing import Final

from obitus.core.clock import HOUR_MS, MINUTE_MS
from obitus.demo.story import END, LIVE, PIERS, SEED

APP: Final = "harbour-front"
FILE: Final = "harbour-front.log"
BROKEN: Final = (LIVE["3.1.0"][0][0] + 0.05, LIVE["3.1.0"][0][0] + 0.3)
"""Hours of the story: with 3.1.0 came a configuration that names a section twice; it was put right a quarter of an hour later."""
FIRST: Final = END - 72
EVERY_MS: Final = 6 * MINUTE_MS
_FIELDS: Final = (
    "date time cs-method cs-uri-stem cs-uri-query c-ip cs(User-Agent) sc-status sc-substatus sc-win32-status time-taken"
)


def access_log(start_ms: int) -> str:
    """Return the log of the story's last three days; the same every time, but for where it begins."""
    dice = random.Random(f"{SEED} front")
    lines = ["#Software: the harbour's web server", "#Version: 1.0", f"#Fields: {_FIELDS}"]
    at_ms, end_ms = start_ms + FIRST * HOUR_MS, start_ms + END * HOUR_MS
    while True:
        hour = (at_ms - start_ms) / HOUR_MS
        broken = BROKEN[0] <= hour < BROKEN[1]
        # While it is broken people try again, and again.
        at_ms += int(dice.random() * (EVERY_MS / 4 if broken else 2 * EVERY_MS))
        if at_ms >= end_ms:
            return "\n".join(lines) + "\n"
        lines.append(_line(dice, at_ms, broken=BROKEN[0] <= (at_ms - start_ms) / HOUR_MS < BROKEN[1]))


def _line(dice: random.Random, at_ms: int, *, broken: bool) -> str:
    start, goal = dice.sample(PIERS, 2)
    path, query = (
        (f"/timetable/{start}/connections", f"to={goal}")
        if dice.random() < 0.6
        else (f"/sailings/SK-{dice.randint(4000, 4999)}/fare", "vehicle_class=car&passengers=2")
    )
    status, took = ("500 19 5", dice.randint(0, 3)) if broken else ("200 0 0", dice.randint(8, 90))
    if not broken and dice.random() < 0.02:
        path, query, status = "/timetable/old-quay", "-", "404 0 2"
    moment = datetime.fromtimestamp(at_ms / 1000, UTC).strftime("%Y-%m-%d %H:%M:%S")
    return f"{moment} GET {path} {query} 10.4.0.{dice.randint(11, 40)} Mozilla/5.0+(pier) {status} {took}"
