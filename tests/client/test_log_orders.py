"""Loggers that send more for a while because somebody at the service wants it: no deploy, and nothing else in the app changes."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from typing import Any

import pytest

import obitus
from obitus.client.log_orders import LogOrders
from tests.client.conftest import Reported
from tests.conftest import Running, failure


class Heard(logging.Handler):
    """What a handler of the app writes."""

    def __init__(self) -> None:
        super().__init__()
        self.messages: list[str] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.messages.append(record.getMessage())


@pytest.fixture
def own() -> Iterator[Heard]:
    """An app that logs from INFO on, one part of it from WARNING on."""
    heard, top, part = Heard(), logging.getLogger("skerry"), logging.getLogger("skerry.mail")
    before = top.level, part.level
    top.addHandler(heard)
    top.setLevel(logging.INFO), part.setLevel(logging.WARNING)
    yield heard
    top.removeHandler(heard)
    top.setLevel(before[0]), part.setLevel(before[1])


def order(running: Running, **what: Any) -> int:
    made = running.ask("POST", "/api/apps/sailings/log-orders", what)
    assert made.status == 201, made.json()
    return int(made.json()["orders"][-1]["id"])


def hear() -> None:
    """Have the client get an answer."""
    obitus.record(ValueError("x"))
    assert obitus.flush(60)


def say_all() -> None:
    for name in ("skerry.fares", "skerry.mail", "skerry.mail.relay", "elsewhere"):
        logging.getLogger(name).debug("debug %s", name)
        logging.getLogger(name).info("info %s", name)


def messages(reported: Reported) -> list[str]:
    return [report["message"] for report in reported.all("log")]


def test_more_for_a_while(reported: Reported, running: Running, own: Heard) -> None:
    """A logger and all below it send from DEBUG on; the app's own handlers write what they wrote before; ended, all is as it was."""
    say_all()
    assert messages(reported) == [] and own.messages == ["info skerry.fares"]
    number = order(running, logger="skerry", severity="DEBUG")
    hear()
    say_all()
    assert messages(reported) == [
        f"{level} {name}"
        for name in ("skerry.fares", "skerry.mail", "skerry.mail.relay")
        for level in ("debug", "info")
    ]
    assert own.messages == ["info skerry.fares"] * 2
    assert running.ask("DELETE", f"/api/apps/sailings/log-orders/{number}").status == 200
    hear()
    say_all()
    assert len(messages(reported)) == 6 and own.messages == ["info skerry.fares"] * 3
    assert [logging.getLogger(name).level for name in ("skerry", "skerry.mail")] == [logging.INFO, logging.WARNING]
    said = running.get("/api/acts?limit=5")["acts"]
    assert [act["act"] for act in said[:2]] == ["ended logs order", "ordered logs"]
    assert said[1]["subject"] == "sailings: skerry from DEBUG for 15 min" and said[1]["person"] == "owner"


def test_less_for_a_while(reported: Reported, running: Running, own: Heard) -> None:
    """A noisy logger is quiet; another order for one below it is nearer; the app's own output stays."""
    order(running, logger="skerry", severity="FATAL")
    order(running, logger="skerry.mail", severity="ERROR")
    hear()
    for name in ("skerry.fares", "skerry.mail"):
        logging.getLogger(name).error("error %s", name)
    assert messages(reported) == ["error skerry.mail"]
    assert own.messages == ["error skerry.fares", "error skerry.mail"]


def test_for_another_environment(reported: Reported, running: Running, own: Heard) -> None:
    """Only senders of that environment hear of it; of two orders the one for the environment holds."""
    order(running, logger="skerry", severity="DEBUG", environment="staging")
    hear()
    say_all()
    assert messages(reported) == []
    order(running, logger="skerry", severity="INFO", environment="production")
    order(running, logger="skerry", severity="TRACE")
    hear()
    say_all()
    assert [one for one in messages(reported) if "debug" in one] == []


def test_an_app_that_does_not_want_it(running: Running, own: Heard, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OBITUS_LOGS_FIXED", "1")
    obitus.watch(url=running.url, key=running.add_app())
    order(running, logger="", severity="DEBUG")
    hear()
    say_all()
    assert messages(Reported(running, "")) == []


def test_it_ends_without_an_answer(own: Heard, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also where the service is not reached any more; a level that the app set meanwhile stays."""
    now_s = [100.0]
    monkeypatch.setattr("obitus.client.log_orders.monotonic", lambda: now_s[0])
    orders = LogOrders({"": "WARN"}, fixed=False)
    changed: list[int] = []
    orders.listen(lambda: changed.append(1))
    orders.learn_from({"log_orders": [{"logger": "skerry", "severity": "DEBUG", "seconds": 60}, {"logger": "skerry.mail", "severity": "INFO", "seconds": 30}]})  # fmt: skip
    assert orders.sent.passes("skerry.x", "DEBUG") and not orders.sent.passes("skerry.mail.x", "DEBUG")
    assert orders.is_for_us_alone("skerry.x", logging.DEBUG) and not orders.is_for_us_alone("skerry.x", logging.INFO)
    assert orders.is_for_us_alone("skerry.mail", logging.INFO)
    now_s[0] = 140
    orders.expire()
    assert orders.active == {"skerry": "DEBUG"} and orders.ends_s == 160
    logging.getLogger("skerry").setLevel(logging.ERROR)
    now_s[0] = 200
    orders.expire()
    assert orders.active == {} and orders.ends_s == 0 and len(changed) == 3
    assert (
        logging.getLogger("skerry").level == logging.ERROR and logging.getLogger("skerry.mail").level == logging.WARNING
    )
    assert not orders.sent.passes("skerry.x", "INFO")


@pytest.mark.parametrize(
    "answer",
    [
        {}, {"log_orders": None}, {"log_orders": "x"}, {"log_orders": [None, {}, {"logger": 7, "severity": "DEBUG", "seconds": 9}, {"logger": "a", "severity": "LOUD", "seconds": 9}]},
        {"log_orders": [{"logger": "a", "severity": "DEBUG", "seconds": -1}, {"logger": "a", "severity": "DEBUG", "seconds": "long"}]},
    ],
)  # fmt: skip
def test_answers_that_are_none(answer: dict[str, Any]) -> None:
    """Whatever an address answers that is not the service."""
    orders = LogOrders({"": "WARN"}, fixed=False)
    orders.learn_from(answer)
    assert orders.active == {}


def test_many_orders(running: Running) -> None:
    """An order for the same logger replaces the one before; more than so many at once are refused; bad ones say what is wrong."""
    key = running.add_app()
    for _ in range(3):
        order(running, logger="a", severity="DEBUG", minutes=5)
    assert len(running.get("/api/apps/sailings/log-orders")["orders"]) == 1
    for number in range(49):
        order(running, logger=f"n{number}", severity="INFO")
    assert running.ask("POST", "/api/apps/sailings/log-orders", {"logger": "more", "severity": "INFO"}).status == 409
    assert running.ask("POST", "/api/apps/sailings/log-orders", {"logger": "a", "severity": "LOUD"}).status == 422
    assert running.ask("POST", "/api/apps/sailings/log-orders", {"severity": "INFO", "minutes": 9999}).status == 422
    assert running.ask("POST", "/api/apps/nobody/log-orders", {"severity": "INFO"}).status == 404
    told = running.send(key, failure()).json()["log_orders"]
    assert len(told) == 50 and 290 < told[0]["seconds"] <= 300
