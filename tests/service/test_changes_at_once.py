"""Two changes at once: what is stored last is in use, whichever of the two finishes first."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from typing import Any, NamedTuple

import pytest

from obitus.core.redaction.rules import parse_rule
from obitus.store import log_orders, maps, rules, tracepoints
from tests.conftest import Running
from tests.core.maps.writing import map_of
from tests.service.test_tracepoints import FARES

LATE_S = 0.5
"""How long a change may take that another one does not hold up."""


class Case(NamedTuple):
    """Something that is read from the store again after each change."""

    reads: tuple[Any, str]
    load: Callable[[Running], Any]
    change: Callable[[Running], Any]
    in_use: Callable[[Running], bool]


def send_map(running: Running) -> Any:
    headers = {"Authorization": f"Bearer {running.token}"}
    url = f"{running.url}/api/apps/sailings/maps?release=1.0.0&path=page.js"
    return running.http.request("POST", url, body=json.dumps(map_of([[(0, 0, 0, 0)]])).encode(), headers=headers)


CASES = {
    "redaction rules": Case(
        (rules.REDACTION, "active"),
        lambda running: running.service.intake.load_rules(),
        lambda running: running.ask("POST", "/api/redaction-rules", {"rule": "name vessel pin"}),
        lambda running: parse_rule("name vessel pin").text in running.service.intake.rules.redaction,
    ),
    "orders for loggers": Case(
        (log_orders, "active"),
        lambda running: running.service.intake.load_log_orders(),
        lambda running: running.ask(
            "POST", "/api/apps/sailings/log-orders", {"logger": "fares", "severity": "DEBUG", "minutes": 5}
        ),
        lambda running: [order.logger for order in running.service.intake.log_orders[1]] == ["fares"],
    ),
    "tracepoints": Case(
        (tracepoints, "active"),
        lambda running: running.service.tracepoints.load(),
        lambda running: running.ask("POST", "/api/apps/sailings/tracepoints", FARES),
        lambda running: len(running.service.tracepoints.list_for(1, "production")["set"]) == 1,
    ),
    "source maps": Case(
        (maps, "apps_with_maps"),
        lambda running: running.service.intake.shelf.refresh(),
        send_map,
        lambda running: not running.service.intake.shelf.is_empty,
    ),
}


@pytest.mark.parametrize("what", CASES)
def test_the_later_one_has_the_last_word(running: Running, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    """The first has read what is stored, and not used it yet, when the second one stores something."""
    running.add_app()
    case = CASES[what]
    place, name = case.reads
    read = getattr(place, name)
    answers: list[Any] = []
    second = threading.Thread(target=lambda: answers.append(case.change(running)))

    def reading(*arguments: Any) -> Any:
        monkeypatch.setattr(place, name, read)
        stored = read(*arguments)
        second.start()
        # It is done by then, or waits for the first one.
        second.join(LATE_S)
        return stored

    monkeypatch.setattr(place, name, reading)
    case.load(running)
    second.join()
    assert answers[0].status in (200, 201), answers[0].data
    assert case.in_use(running)
