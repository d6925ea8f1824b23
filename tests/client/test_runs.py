"""Runs, trails and attributes: what belongs to one unit of work stays with it."""

from __future__ import annotations

import asyncio
import json
import logging
import os
import subprocess
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi import FastAPI, HTTPException

import obitus
from obitus.client import state
from obitus.client.runs import RunState
from obitus.client.trail import MOST_BREADCRUMBS, MOST_TRAIL_CHARS
from tests.client.conftest import Reported
from tests.conftest import Running

log = logging.getLogger("skerry.tests")
log.setLevel(logging.INFO)


def messages(report: dict[str, Any]) -> list[str]:
    return [crumb["message"] for crumb in report["trail"]]


def test_threads_of_one_run_agree_on_its_ids() -> None:
    """Two threads that ask for an id which is not made yet, at the same moment, get the same one."""
    both = threading.Barrier(2)

    def made(length: int) -> bytes:
        both.wait(30)
        return os.urandom(length)

    outer = RunState("job manifest", 1_795_651_200_000, 0.0, made, None, None, None)
    inner = RunState("job weights", 1_795_651_200_000, 0.0, made, None, None, outer)
    with ThreadPoolExecutor(2) as pool:
        for ask in (lambda: outer.id, lambda: outer.span_id, lambda: inner.trace_id, lambda: inner.traceparent):
            assert len({one.result() for one in [pool.submit(ask), pool.submit(ask)]}) == 1
    assert inner.trace_id == outer.trace_id


def test_a_run_has_its_own_trail(reported: Reported) -> None:
    """Marks and log records of a run stand on its failure, in order; those of another run do not."""
    obitus.mark("outside")
    with obitus.run("job other"):
        obitus.mark("other run")
    with pytest.raises(ValueError), obitus.run("job nightly-manifest", sailing="SK-4711"):
        obitus.mark("weights summed", rows=3)
        obitus.attach({"user.id": "p-102"})
        log.warning("row %d is empty", 2)
        raise ValueError("no weight")
    report = reported.one()
    assert messages(report) == ["weights summed", "row 2 is empty"]
    assert report["trail"][0]["attributes"] == {"rows": 3} and report["trail"][1]["severity"] == "WARN"
    assert report["trail"][1]["attributes"]["logger"] == "skerry.tests"
    assert report["attributes"]["user.id"] == "p-102" and report["attributes"]["sailing"] == "SK-4711"
    assert report["run"]["entry_point"] == "job nightly-manifest" and report["run"]["outcome"] == "failed"
    assert report["handled"] is False and len(report["trace_id"]) == 32


def test_a_decorator_makes_each_call_a_run(reported: Reported) -> None:
    """Of a function and of a coroutine function; a nested run shares the trace."""

    @obitus.run("job inner")
    def inner() -> None:
        raise ValueError("inner")

    @obitus.run("job outer")
    async def outer() -> None:
        await asyncio.sleep(0)
        inner()

    with pytest.raises(ValueError, match="inner"):
        asyncio.run(outer())
    with pytest.raises(ValueError, match="inner"):
        inner()
    first, second = reported.all()
    assert first["run"]["entry_point"] == "job inner" and first["trace_id"] != second["trace_id"]


def test_the_trail_is_bounded(reported: Reported) -> None:
    """By count and by bytes: the oldest breadcrumbs go first, and are counted."""
    with pytest.raises(ValueError), obitus.run("job long"):
        for i in range(MOST_BREADCRUMBS + 50):
            obitus.mark(f"step {i}", text="pier")
        raise ValueError
    with pytest.raises(KeyError), obitus.run("job bulky"):
        for i in range(MOST_BREADCRUMBS):
            obitus.mark(f"step {i}", text="x" * 100_000, more="y" * 990)
        raise KeyError
    report, bulky = reported.all()
    assert report["trail_left_out"] == 50 and len(report["trail"]) == MOST_BREADCRUMBS
    assert messages(report)[-1] == f"step {MOST_BREADCRUMBS + 49}"
    assert (
        len(json.dumps(bulky["trail"])) < 1.2 * MOST_TRAIL_CHARS
        and messages(bulky)[-1] == f"step {MOST_BREADCRUMBS - 1}"
    )
    assert bulky["trail_left_out"] + len(bulky["trail"]) == MOST_BREADCRUMBS


def ferry() -> FastAPI:
    """An app that was not made for these tests' sake: plain FastAPI with the middleware."""
    app = FastAPI()
    app.add_middleware(obitus.AsgiMiddleware)

    @app.get("/sailings/{sailing_id}")
    async def sailing(sailing_id: str) -> None:
        obitus.attach({"user.id": f"user of {sailing_id}"})
        obitus.mark(f"first {sailing_id}")
        await asyncio.sleep(0.01)
        log.info("second %s", sailing_id)
        await asyncio.to_thread(obitus.mark, f"third {sailing_id}")
        raise RuntimeError(sailing_id)

    @app.get("/refused")
    def refused() -> None:
        raise HTTPException(404, "no such pier")

    return app


async def get(path: str, **headers: str) -> httpx.Response:
    transport = httpx.ASGITransport(ferry(), raise_app_exceptions=False)
    async with httpx.AsyncClient(transport=transport, base_url="http://ferry") as client:
        return await client.get(path, headers=headers)


def test_a_request(reported: Reported) -> None:
    """A failing request carries method, route, address, headers and its run; secrets in them are hidden."""
    trace = "0af7651916cd43dd8448eb211c80319c"
    answer = asyncio.run(
        get("/sailings/SK-1?token=abc&pier=merrow", traceparent=f"00-{trace}-b7ad6b7169203331-01", cookie="ticket=1")
    )
    assert answer.status_code == 500
    report = reported.one()
    assert report["run"]["entry_point"] == "GET /sailings/{sailing_id}" and report["trace_id"] == trace
    request = report["request"]
    assert request["method"] == "GET" and request["route"] == "/sailings/{sailing_id}"
    assert request["url"] == "http://ferry/sailings/SK-1?token=[hidden: token]&pier=merrow"
    assert ["cookie", "[hidden: cookie]"] in request["headers"]
    assert not any(frame["module"].startswith("obitus.") for frame in report["exceptions"][0]["frames"])


def test_a_refusal_is_no_failure(reported: Reported) -> None:
    """A 404 that the app answers itself is not reported."""
    assert asyncio.run(get("/refused")).status_code == 404
    assert asyncio.run(get("/nowhere")).status_code == 404
    assert reported.all() == []


def test_a_client_that_goes_away(reported: Reported) -> None:
    """Whoever leaves while the body arrives, or while the handler works, leaves no open run behind; it counts as refused."""

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await asyncio.sleep(60)

    async def ask(headers: list[tuple[bytes, bytes]]) -> None:
        scope = {"type": "http", "method": "POST", "path": "/x", "headers": headers}

        async def receive() -> dict[str, Any]:
            await asyncio.sleep(60)
            return {}

        task = asyncio.create_task(obitus.AsgiMiddleware(app)(scope, receive, None))  # type: ignore[arg-type]
        await asyncio.sleep(0.05)
        task.cancel()
        with pytest.raises(asyncio.CancelledError):
            await task

    asyncio.run(ask([]))
    asyncio.run(ask([(b"content-length", b"10"), (b"content-type", b"application/json")]))
    assert state.active is not None and state.active.runs.open == {}
    tallies = reported.all("tally")
    assert {tally["outcome"] for tally in tallies} == {"refused"} and sum(tally["runs"] for tally in tallies) == 2


def test_which_statuses_count_as_failed(reported: Reported) -> None:
    """The team says which; an answer's body is kept when that is asked for, and a body is not when it is not wanted."""
    from starlette.responses import JSONResponse

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await JSONResponse({"pier": "merrow"}, 409 if scope["path"] == "/taken" else 503)(scope, receive, send)

    async def ask(**options: Any) -> None:
        watched = obitus.AsgiMiddleware(app, counts_as_failed=[409], **options)
        async with httpx.AsyncClient(transport=httpx.ASGITransport(watched), base_url="http://ferry") as client:
            await client.post("/taken", json={"berth": 7})
            await client.post("/away")

    asyncio.run(ask(answer_body=True))
    asyncio.run(ask(body_bytes=0))
    taken, away, bare, _ = reported.all("run")
    assert (taken["run"]["outcome"], away["run"]["outcome"]) == ("failed", "refused")
    assert taken["request"]["answer_body"]["json"] == {"pier": "merrow"}
    assert taken["request"]["body"]["json"] == {"berth": 7}
    assert "body" not in bare["request"] and "answer_body" not in bare["request"]


def test_two_hundred_requests_at_once_never_mix(reported: Reported) -> None:
    """Each of two hundred concurrent requests has its own trail and its own user, threads included."""

    async def many() -> None:
        transport = httpx.ASGITransport(ferry(), raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://ferry") as client:
            await asyncio.gather(*(client.get(f"/sailings/SK-{i}") for i in range(200)))

    asyncio.run(many())
    reports = reported.all()
    assert len(reports) == 200
    for report in reports:
        name = report["exceptions"][0]["message"]
        assert messages(report) == [f"first {name}", f"second {name}", f"third {name}"]
        assert report["attributes"]["user.id"] == f"user of {name}"


def test_start_up_failures(reported: Reported) -> None:
    """What kills an app before it serves anything is reported, with `start-up` as its entry point."""

    async def lifespan_app(scope: Any, receive: Any, send: Any) -> None:
        await receive()
        raise KeyError("DATABASE")

    async def no_lifespan_app(scope: Any, receive: Any, send: Any) -> None:
        raise ValueError("lifespan is not supported")

    async def receive() -> dict[str, Any]:
        return {"type": "lifespan.startup"}

    async def start(app: Any) -> None:
        await obitus.AsgiMiddleware(app)({"type": "lifespan"}, receive, None)  # type: ignore[arg-type]

    with pytest.raises(KeyError):
        asyncio.run(start(lifespan_app))
    with pytest.raises(ValueError, match="not supported"):
        asyncio.run(start(no_lifespan_app))
    assert reported.one()["run"]["entry_point"] == "start-up"


@pytest.mark.parametrize(
    "value",
    [
        "",
        "00-0-0-01",
        "ff-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01",
        "00-" + "0" * 32 + "-b7ad6b7169203331-01",
    ],
)
def test_a_broken_traceparent_starts_a_new_trace(reported: Reported, value: str) -> None:
    """W3C Trace Context: what does not fit is ignored, never passed on."""
    asyncio.run(get("/sailings/SK-1", traceparent=value))
    assert reported.one()["trace_id"] not in ("", "0" * 32, "0af7651916cd43dd8448eb211c80319c")


def test_routes_without_a_framework_that_names_them(reported: Reported) -> None:
    """Where the framework gives no template, it is worked out from the path's parameters."""
    from starlette.applications import Starlette
    from starlette.requests import Request
    from starlette.responses import Response
    from starlette.routing import Mount, Route

    async def fail(request: Request) -> Response:
        raise RuntimeError

    app = Starlette(routes=[Mount("/line", routes=[Route("/piers/{pier}/calls/{call:int}", fail)])])
    watched = obitus.AsgiMiddleware(app)

    async def ask() -> None:
        transport = httpx.ASGITransport(watched, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://ferry") as client:
            await client.get("/line/piers/merrow/calls/7")

    asyncio.run(ask())
    assert reported.one()["run"]["entry_point"] == "GET /line/piers/{pier}/calls/{call}"


def test_answers_that_others_give(reported: Reported) -> None:
    """A server's own 500 where the app answers nothing, and an error handler's 599 outside of the middleware."""
    from starlette.applications import Starlette
    from starlette.responses import PlainTextResponse
    from starlette.routing import Route

    async def fail(request: Any) -> PlainTextResponse:
        raise LookupError("gangway is up")

    async def answer(request: Any, error: Exception) -> PlainTextResponse:
        return PlainTextResponse("closed", 599)

    app = Starlette(routes=[Route("/gate", fail)], exception_handlers={500: answer})
    app.add_middleware(obitus.AsgiMiddleware)

    async def silent(scope: Any, receive: Any, send: Any) -> None: ...

    async def ask() -> None:
        transport = httpx.ASGITransport(app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://ferry") as client:
            assert (await client.get("/gate")).status_code == 599
        scope = {"type": "http", "method": "GET", "path": "/silent", "headers": []}
        await obitus.AsgiMiddleware(silent)(scope, None, None)  # type: ignore[arg-type]

    asyncio.run(ask())
    list(obitus.WsgiMiddleware(lambda environ, start: [])({"REQUEST_METHOD": "GET", "PATH_INFO": "/mute"}, None))
    told = {(tally["entry_point"], tally["outcome"], tally["status"]) for tally in reported.all("tally")}
    assert told == {("GET /gate", "failed", 599), ("GET /silent", "failed", 500), ("GET /mute", "failed", 500)}


def test_a_failure_at_the_end_of_an_apps_life(running: Running, tmp_path: Path) -> None:
    """What is raised while an app shuts down arrives, although its server ends the process at once."""
    from tests.client.programs import Server, environment_for, free_port, write
    from tests.client.test_unhandled import failures

    code = """
        import contextlib, obitus
        obitus.watch()
        from fastapi import FastAPI
        @contextlib.asynccontextmanager
        async def life(app):
            yield
            raise OSError("the tide table cannot be closed")
        app = FastAPI(lifespan=life)
        app.add_middleware(obitus.AsgiMiddleware)
        @app.get("/up")
        def up(): return {}
    """
    write(tmp_path, code, "ferry.py")
    port = free_port()
    environment = environment_for(running, running.add_app(), PYTHONPATH=str(tmp_path))
    server = Server([sys.executable, "-m", "uvicorn", "ferry:app", "--port", str(port)], port, tmp_path, environment)
    server.stop()
    next_start = "import obitus\nobitus.watch()\nobitus.flush(60)"
    subprocess.run([sys.executable, "-c", next_start], env=environment, check=True, timeout=150)
    (report,) = failures(running, 1)
    assert report["exceptions"][0]["message"] == "the tide table cannot be closed" and report["handled"] is False
