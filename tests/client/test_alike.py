"""Beyond the rate a failure is not lost: it is counted with one like it, and the service counts them all."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import signal
import sqlite3
from collections import Counter
from collections.abc import Awaitable, Callable, MutableMapping
from contextlib import closing
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import obitus
from obitus.client import state
from obitus.client.alike import MOST_FORMS, MOST_PLACES, form_of
from obitus.store.backups.verifying import verify
from tests.client.conftest import Reported
from tests.client.programs import run
from tests.client.test_hard_ends import NEXT_START
from tests.conftest import Running


def slow(running: Running) -> None:
    """Watch, and capture few whole: eight at once, and one a second."""
    obitus.watch(url=running.url, key=running.add_app(), failures_per_second=1)


def arrived(running: Running) -> dict[str, int]:
    """Send all that was counted, and return the failures by what the headlines of their issues say; the rollups agree with the rows."""
    assert obitus.flush(60), obitus.status()
    assert verify(running.service.settings.data) == []
    by_type: Counter[str] = Counter()
    for issue in running.issues():
        by_type[issue["type"]] += issue["failures"]
    return by_type


def kept(running: Running) -> int:
    """Return how many failures are kept whole."""
    with closing(sqlite3.connect(running.service.settings.data / "obitus.sqlite3")) as main:
        return int(main.execute("SELECT COUNT(*) FROM failures").fetchone()[0])


def raised(kind: type[Exception] = ValueError, message: str = "no pier") -> None:
    """Raise one."""
    raise kind(message)


def board(act: Callable[[], None] = raised) -> None:
    """Fail in a run."""
    with contextlib.suppress(Exception), obitus.run("job board"):
        act()


def test_a_flood_is_counted_to_the_last(running: Running) -> None:
    """Five hundred failures are five hundred, though a few of them were captured; nothing was dropped."""
    slow(running)
    for number in range(500):
        try:
            raised(message=f"no pier {number}")
        except ValueError as error:
            obitus.record(error)
    assert arrived(running) == {"ValueError": 500} and kept(running) < 60
    assert obitus.status()["dropped"] == {}
    (issue,) = running.issues()
    assert "counted and not kept whole" in running.get(f"/api/issues/{issue['number']}")["what_failed"]
    obitus.stop()


def test_a_flood_hides_no_other_failure(running: Running) -> None:
    """What fails for the first time is captured in the midst of a flood, each place of the code by itself."""
    slow(running)
    for number in range(100):
        board()
        if number == 90:
            board(lambda: raised(KeyError, "deck 3"))
            board(lambda: raised(KeyError, "deck 4"))
    found = arrived(running)
    assert found["ValueError"] == 100 and found["KeyError"] == 2
    obitus.stop()


def test_each_is_counted_once(running: Running) -> None:
    """An exception that is logged on its way and ends its run is one failure, counted like one captured; it was not handled."""

    def logs_it() -> None:
        try:
            raised()
        except ValueError:
            logging.getLogger("skerry").exception("could not board")
            raise

    slow(running)
    for _ in range(200):
        board(logs_it)
    assert arrived(running) == {"ValueError": 200}
    with closing(sqlite3.connect(running.service.settings.data / "obitus.sqlite3")) as main:
        assert main.execute("SELECT DISTINCT handled, entry_point FROM failures").fetchall() == [(0, "job board")]
    obitus.stop()


def test_what_an_app_says_is_counted_too(running: Running) -> None:
    """By its place in the code."""
    slow(running)
    for number in range(300):
        obitus.say(f"gangway {number} is up", severity="ERROR")
    assert sum(arrived(running).values()) == 300
    obitus.stop()


def test_what_is_counted_is_bounded(running: Running) -> None:
    """Failures of thousands of forms: so many are known, and what can be neither captured nor counted is said."""
    slow(running)
    for number in range(MOST_FORMS * 3):
        kind = type(f"Fault{number}", (Exception,), {})
        with contextlib.suppress(Exception):
            obitus.record(kind("no pier"))
    assert state.active is not None
    assert len(state.active.failures.alike._forms) <= MOST_FORMS
    arrived(running)
    dropped = obitus.status()["dropped"]["too many at once"]
    said = Reported(running, "").all("log")
    obitus.stop()
    assert kept(running) + dropped == MOST_FORMS * 3 and kept(running) > 50
    # On a busy machine it is said more than once, each time what is new.
    assert sum(one["attributes"]["dropped.too many at once"] for one in said) == dropped
    assert all("because too many at once" in one["message"] for one in said)


def test_a_kill_loses_no_count(running: Running, tmp_path: Path) -> None:
    """What was counted and not sent yet is in the story of the process, which the next start sends; once."""
    key = running.add_app()
    code = """
        import obitus, os, signal, time
        from pathlib import Path
        obitus.watch(failures_per_second=1)
        for number in range(400):
            try:
                raise ValueError(number)
            except ValueError as error:
                obitus.record(error)
        assert obitus.flush(60)
        for number in range(37):
            try:
                raise KeyError("deck")
            except KeyError as error:
                obitus.record(error)
        while not any('"counted": 36' in path.read_text() for path in Path(os.environ["OBITUS_SPOOL"]).rglob("*story*")):
            time.sleep(0.01)
        os.kill(os.getpid(), signal.SIGKILL)
    """
    for _ in range(2):
        ended = run(running, key, tmp_path, code)
        assert ended.returncode == -signal.SIGKILL, ended.stderr
        assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert {issue["type"]: issue["failures"] for issue in running.issues()} == {"ValueError": 800, "KeyError": 74}
    assert verify(running.service.settings.data) == []


def test_what_the_process_ends_of_is_captured(running: Running, tmp_path: Path) -> None:
    """Though it was logged on its way, in the midst of a flood, and counted then: it is one failure, and there whole."""
    key = running.add_app()
    code = """
        import logging, obitus
        obitus.watch(failures_per_second=1)
        def board(number):
            try:
                raise ValueError(number)
            except ValueError:
                logging.exception("could not board")
                if number == 299:
                    raise
        for number in range(300):
            board(number)
    """
    assert run(running, key, tmp_path, code).returncode == 1
    # What it did not send in the two seconds that it takes for its end is on disk.
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert sum(issue["failures"] for issue in running.issues()) == 300
    with closing(sqlite3.connect(running.service.settings.data / "obitus.sqlite3")) as main:
        rows = main.execute("SELECT handled, message FROM failures WHERE severity = 'FATAL'").fetchall()
    assert rows == [(0, "299")]


def test_a_forked_child_counts_its_own(running: Running, tmp_path: Path) -> None:
    """What the parent has counted is not the child's to send."""
    key = running.add_app()
    code = """
        import obitus, os
        obitus.watch(failures_per_second=1)
        def fail(times):
            for number in range(times):
                try:
                    raise ValueError(number)
                except ValueError as error:
                    obitus.record(error)
        fail(100)
        child = os.fork()
        fail(50 if child else 70)
        if child:
            os.waitpid(child, 0)
    """
    ended = run(running, key, tmp_path, code)
    assert ended.returncode == 0, ended.stderr
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert [issue["failures"] for issue in running.issues()] == [220]


def _down(depth: int) -> None:
    if depth:
        _down(depth - 1)
    raised()


def _form(act: Callable[[], None]) -> object:
    try:
        act()
    except Exception as error:
        return form_of(error, "job board").key
    raise AssertionError("nothing was raised")


@given(st.integers(MOST_PLACES + 1, 300), st.integers(MOST_PLACES + 1, 300), st.text(max_size=20), st.text(max_size=20))
def test_a_form_is_of_places_and_types(deep: int, deeper: int, one: str, other: str) -> None:
    """Neither the message nor how deep a function called itself make another form; type, place and entry point do."""
    assert _form(lambda: _down(deep)) == _form(lambda: _down(deeper))

    def here(message: str, kind: type[Exception] = ValueError) -> object:
        return _form(lambda: raised(kind, message))

    assert here(one) == here(other) != here(one, KeyError)
    assert here(one) != _form(lambda: raised(ValueError, one))
    error = ValueError(one)
    assert form_of(error, "job board").key != form_of(error, "job fares").key


def test_chains_and_groups_have_forms_of_their_own() -> None:
    """What an exception came of, and what is in a group, is a part of its form; one that leads to itself ends."""

    def came_of(kind: type[Exception]) -> object:
        def act() -> None:
            try:
                raised(kind)
            except kind as error:
                raise RuntimeError("not boarded") from error

        return _form(act)

    def together(*kinds: type[Exception]) -> object:
        def act() -> None:
            raise ExceptionGroup("boarding", [kind("x") for kind in kinds])

        return _form(act)

    assert came_of(ValueError) == came_of(ValueError) != came_of(KeyError)
    assert together(ValueError) == together(ValueError) != together(ValueError, KeyError)
    error = ValueError("round")
    error.__context__ = ValueError("and round")
    error.__context__.__context__ = error
    assert len(form_of(error, "").key) <= MOST_PLACES


def test_code_that_is_gone_is_not_taken_for_other_code() -> None:
    """The code of a form is held with it: what is compiled again and again never takes its identity."""
    keys = []
    held = []
    for number in range(50):
        names: dict[str, Callable[[], None]] = {}
        exec(compile(f"def fail():\n    raise ValueError({number})", "made.py", "exec"), names)
        try:
            names["fail"]()
        except ValueError as error:
            form = form_of(error, "")
        held.append(form.codes)
        keys.append(form.key)
    assert len(set(keys)) == 50


def test_a_request_that_fails_often_is_asked_little(running: Running) -> None:
    """What is only counted is counted at the request's route, and the app is asked who it is for what is captured alone."""
    slow(running)
    asked: list[str] = []

    def user(scope: MutableMapping[str, Any]) -> str:
        asked.append(scope["path"])
        return "p-102"

    async def app(scope: MutableMapping[str, Any], receive: object, send: Callable[[Any], Awaitable[None]]) -> None:
        scope["path_template"] = "/sailings/{id}"
        for number in range(400):
            try:
                raised(message=f"no pier {number}")
            except ValueError as error:
                obitus.record(error)
        await send({"type": "http.response.start", "status": 200, "headers": []})

    async def nothing() -> dict[str, Any]:
        return {"type": "http.request", "body": b"", "more_body": False}

    async def nowhere(_: object) -> None: ...

    scope = {"type": "http", "method": "GET", "path": "/sailings/SK-1", "headers": []}
    asyncio.run(obitus.AsgiMiddleware(app, user=user)(scope, nothing, nowhere))
    assert arrived(running) == {"ValueError": 400}
    with closing(sqlite3.connect(running.service.settings.data / "obitus.sqlite3")) as main:
        assert main.execute("SELECT DISTINCT entry_point FROM failures").fetchall() == [("GET /sailings/{id}",)]
    assert len(asked) < 60
    obitus.stop()
