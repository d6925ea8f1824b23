"""One event, one failure: kept apart by what an exception went through, and the stronger of two findings wins."""

from __future__ import annotations

import contextlib
import gc
import logging
import traceback
import weakref
from typing import Any

import pytest

import obitus
from tests.client.conftest import Reported

log = logging.getLogger("skerry.gate")
FULL = RuntimeError("the boat is full")


def board() -> None:
    raise FULL


def test_nothing_is_put_on_the_exception(reported: Reported) -> None:
    """What an app shows or stores of an exception is what it was."""
    error = ValueError("gangway is up")
    obitus.record(error)
    assert vars(error) == {} and error.args == ("gangway is up",)


def test_a_constant_that_is_raised_again(reported: Reported) -> None:
    """The same object raised in one run after the other, and twice in one run, is a failure each time."""
    for _ in range(3):
        with contextlib.suppress(RuntimeError), obitus.run("POST /boardings"):
            board()
    with obitus.run("POST /boardings"):
        for _ in range(2):
            try:
                board()
            except RuntimeError as error:
                obitus.record(error)
    assert len(reported.all()) == 5


def test_several_requests_that_meet_one_failed_task(reported: Reported) -> None:
    """Each run that a stored exception ends is a failure of its own."""
    stored = ValueError("tide table is gone")
    with contextlib.suppress(ValueError):
        raise stored
    for place in range(3):
        with contextlib.suppress(ValueError), obitus.run(f"GET /tides/{place}"):
            raise stored
    assert {report["run"]["entry_point"] for report in reported.all()} == {f"GET /tides/{i}" for i in range(3)}


def test_met_on_its_way_up_it_is_one(reported: Reported) -> None:
    """Logged, raised on with and without a name, met by inner and outer runs: one failure, on the innermost run."""
    with contextlib.suppress(ValueError), obitus.run("outer"), obitus.run("inner"):
        try:
            try:
                raise ValueError("no fare")
            except ValueError as error:
                log.error("first", exc_info=True)
                raise error
        except ValueError:
            log.exception("second")
            raise
    report = reported.one()
    assert report["run"]["entry_point"] == "inner" and report["handled"] is False


def test_new_exceptions_at_the_same_address(reported: Reported) -> None:
    """An exception that takes the place of an earlier one in memory is another one."""
    for place in range(50):
        try:
            raise ValueError(place)
        except ValueError as error:
            obitus.record(error)
    assert len(reported.all()) == 50


def test_exceptions_and_what_they_hold_are_not_kept(reported: Reported) -> None:
    """That it was reported keeps neither the exception nor its frames alive."""

    class Berth: ...

    class Taken(Exception): ...

    def fail() -> weakref.ref[Any]:
        berth = Berth()
        held = weakref.ref(berth)
        for kind in (Taken, ValueError):
            try:
                raise kind("x")
            except Exception as error:
                obitus.record(error)
        return held

    held = fail()
    gc.collect()
    assert held() is None and len(reported.all()) == 2


@pytest.mark.parametrize("how", ["record", "log"])
def test_what_it_died_of_wins_over_what_was_caught(reported: Reported, how: str) -> None:
    """Recorded or logged by the app, and then what its run ends of: unhandled."""
    with contextlib.suppress(ValueError), obitus.run("job count"):
        try:
            raise ValueError("x")
        except ValueError as error:
            obitus.record(error) if how == "record" else log.exception("x")
            raise
    assert [report["handled"] for report in reported.all()] == [False]


def test_what_was_caught_stays_handled(reported: Reported) -> None:
    """In a run that ends well, what was logged in it was handled."""
    with obitus.run("job count"):
        try:
            raise ValueError("x")
        except ValueError:
            log.exception("goes on")
    assert [report["handled"] for report in reported.all()] == [True]


def test_an_answer_of_500_makes_it_unhandled(reported: Reported) -> None:
    """A framework that logs the exception and answers with 500 by itself has not handled it."""

    def app(environ: Any, start: Any) -> list[bytes]:
        try:
            raise LookupError("gangway is up")
        except LookupError:
            log.exception("in the handler")
        start("500 Internal Server Error", [])
        return [b""]

    list(obitus.WsgiMiddleware(app)({"REQUEST_METHOD": "GET", "PATH_INFO": "/x"}, lambda *a: None))
    report = reported.one()
    assert report["handled"] is False and report["run"]["entry_point"] == "GET /x"


def test_an_answer_of_500_while_an_exception_is_handled(reported: Reported) -> None:
    """Nothing was logged, and the answer says it: what is being handled at that moment is what went wrong."""

    def app(environ: Any, start: Any) -> list[bytes]:
        try:
            raise LookupError("gangway is up")
        except LookupError:
            start("503 Service Unavailable", [])
        return [b""]

    list(obitus.WsgiMiddleware(app)({"REQUEST_METHOD": "GET", "PATH_INFO": "/x"}, lambda *a: None))
    assert reported.one()["exceptions"][0]["message"] == "gangway is up"


def test_middleware_twice_counts_once(reported: Reported) -> None:
    """On an app and on what is mounted in it, the same request is one run with one failure."""

    def app(environ: Any, start: Any) -> list[bytes]:
        raise LookupError("gangway is up")

    watched = obitus.WsgiMiddleware(obitus.WsgiMiddleware(app))
    with pytest.raises(LookupError):
        watched({"REQUEST_METHOD": "GET", "PATH_INFO": "/x"}, lambda *a: None)
    assert len(reported.all()) == 1 and reported.one("tally")["runs"] == 1


def test_a_traceback_as_text(reported: Reported) -> None:
    """A server that logs a traceback as text tells of a failure; of one that was reported a moment ago it only repeats."""
    for kind in (LookupError, KeyError):
        try:
            raise kind("berth")
        except LookupError as error:
            if kind is KeyError:
                obitus.record(error)
            log.error("Error handling request /x\n%s", traceback.format_exc())
    found = reported.all()
    assert sorted(report["exceptions"][0]["type"] for report in found) == ["KeyError", "LookupError"]
    text = next(report for report in found if report["exceptions"][0]["type"] == "LookupError")
    assert text["exceptions"][0]["frames"][-1]["function"] == "test_a_traceback_as_text" and not text["handled"]


def test_arguments_of_log_records_are_left_alone(reported: Reported) -> None:
    """Where no handler wants a record, nobody asks its arguments for their text; the breadcrumb shows what they hold."""
    asked = []

    class Passenger:
        def __init__(self) -> None:
            self.name = "p-102"

        def __str__(self) -> str:
            asked.append(1)
            return "x"

    quiet = logging.getLogger("skerry.quiet")
    quiet.propagate, quiet.handlers = False, [logging.NullHandler()]
    quiet.setLevel(logging.INFO)
    with obitus.run("job x"):
        quiet.info("boarding %s at %d", Passenger(), 4)
        obitus.record(ValueError("x"))
    report = reported.one()
    assert asked == [] and report["trail"][0]["message"] == "boarding <Passenger name='p-102'> at 4"


def test_the_body_is_not_read_before_the_app_does(reported: Reported) -> None:
    """A client that announces a body and sends none is answered; what had arrived when a handler died is shown."""

    class Stream:
        def __init__(self) -> None:
            self.asked = 0

        def read(self, size: int = -1) -> bytes:
            self.asked += 1
            return b""

    stream = Stream()
    environ = {"REQUEST_METHOD": "POST", "PATH_INFO": "/x", "CONTENT_LENGTH": "5", "CONTENT_TYPE": "text/plain", "wsgi.input": stream}  # fmt: skip
    app = obitus.WsgiMiddleware(lambda environ, start: (start("404 Not Found", []), [b""])[1])
    list(app(environ, lambda *a: None))
    assert stream.asked == 0
