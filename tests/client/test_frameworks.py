"""Real frameworks under real servers: FastAPI, Starlette, Flask and Django, under uvicorn and gunicorn."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests import kept
from tests.client.programs import Server, environment_for, free_port, write
from tests.conftest import Running

FASTAPI = """
    import obitus
    obitus.watch(own=("ferry",))
    import asyncio
    from fastapi import FastAPI, File, Form, Request, UploadFile, WebSocket
    from fastapi.responses import StreamingResponse
    app = FastAPI()
    app.add_middleware(obitus.AsgiMiddleware, user=lambda scope: dict(scope["headers"]).get(b"x-passenger", b"").decode() or None)

    @app.get("/up")
    def up(): return {}

    @app.post("/sailings/{sailing_id}/boardings")
    async def board(sailing_id: str, order: dict):
        obitus.mark("places counted", taken=62)
        raise RuntimeError("gangway is up")

    @app.post("/dies-unread/{pier}")
    async def unread(pier: str, request: Request):
        raise LookupError("never looked at the body")

    @app.post("/form")
    async def form(name: str = Form(), scan: UploadFile = File()):
        raise ValueError((await scan.read())[:3])

    @app.post("/upload")
    async def upload(request: Request):
        total = 0
        async for piece in request.stream():
            total += len(piece)
        return {"bytes": total}

    @app.get("/stream/{count}")
    def stream(count: int):
        def lines():
            for i in range(count):
                yield f"{i}\\n"
            raise OSError("the tide took the rest")
        return StreamingResponse(lines())

    @app.post("/echo")
    async def echo(order: dict): return order

    @app.websocket("/live/{pier}")
    async def live(socket: WebSocket, pier: str):
        await socket.accept()
        await socket.send_text(await socket.receive_text())
        raise KeyError(pier)
"""
STARLETTE = """
    import obitus
    obitus.watch()
    from starlette.applications import Starlette
    from starlette.responses import JSONResponse
    from starlette.routing import Route
    async def up(request): return JSONResponse({})
    async def board(request):
        await request.json()
        obitus.mark("places counted", taken=62)
        raise RuntimeError("gangway is up")
    async def echo(request): return JSONResponse(await request.json())
    inner = Starlette(routes=[Route("/up", up), Route("/sailings/{sailing_id}/boardings", board, methods=["POST"]),
                              Route("/echo", echo, methods=["POST"])])
    app = obitus.AsgiMiddleware(inner)
"""
FLASK = """
    import obitus
    obitus.watch()
    from flask import Flask, request
    app = Flask(__name__)
    app.wsgi_app = obitus.WsgiMiddleware(app.wsgi_app, user=lambda environ: environ.get("HTTP_X_PASSENGER"))

    @app.get("/up")
    def up(): return {}

    @app.post("/sailings/<sailing_id>/boardings")
    def board(sailing_id):
        obitus.mark("places counted", taken=62)
        raise RuntimeError("gangway is up")

    @app.post("/echo")
    def echo(): return request.get_json()

    @app.post("/upload")
    def upload(): return {"bytes": sum(len(piece) for piece in iter(lambda: request.stream.read(4096), b""))}

    @app.get("/stream/<int:count>")
    def stream(count):
        def lines():
            for i in range(count):
                yield f"{i}\\n"
            raise OSError("the tide took the rest")
        return lines()
"""
DJANGO = """
    import obitus
    obitus.watch()
    import json
    from django.conf import settings
    settings.configure(DEBUG=False, ROOT_URLCONF=__name__, ALLOWED_HOSTS=["*"], SECRET_KEY="x" * 40, MIDDLEWARE=[])
    import django
    django.setup()
    from django.http import JsonResponse
    from django.urls import path
    from django.core.asgi import get_asgi_application
    from django.core.wsgi import get_wsgi_application

    def up(request): return JsonResponse({})

    def board(request, sailing_id):
        obitus.mark("places counted", taken=62)
        raise RuntimeError("gangway is up")

    def echo(request): return JsonResponse(json.loads(request.body))

    urlpatterns = [path("up", up), path("sailings/<str:sailing_id>/boardings", board), path("echo", echo)]
    wsgi = obitus.WsgiMiddleware(get_wsgi_application())
    asgi = obitus.AsgiMiddleware(get_asgi_application())
"""
UVICORN = ["-m", "uvicorn", "--log-level", "warning", "--port", "{port}"]
GUNICORN = [
    "-m",
    "gunicorn",
    "--log-level",
    "warning",
    "--graceful-timeout",
    "3",
    "--workers",
    "2",
    "--bind",
    "127.0.0.1:{port}",
]
WAYS = {
    "fastapi under uvicorn": (FASTAPI, [*UVICORN, "ferry:app"], "asgi"),
    "fastapi under gunicorn": (FASTAPI, [*GUNICORN, "--worker-class", "asgi", "ferry:app"], "asgi"),
    "starlette under uvicorn": (STARLETTE, [*UVICORN, "ferry:app"], "asgi"),
    "flask under gunicorn": (FLASK, [*GUNICORN, "ferry:app"], "flask"),
    "flask under gunicorn, preloaded": (FLASK, [*GUNICORN, "--preload", "ferry:app"], "flask"),
    "flask under gunicorn, threads": (FLASK, [*GUNICORN, "--threads", "4", "ferry:app"], "flask"),
    "django under gunicorn": (DJANGO, [*GUNICORN, "ferry:wsgi"], "django"),
    "django under uvicorn": (DJANGO, [*UVICORN, "ferry:asgi"], "django"),
}


class Watched:
    """A server and what the service got of it."""

    def __init__(self, running: Running, folder: Path, way: str) -> None:
        code, command, self.captured_by = WAYS[way]
        self._running, self._folder = running, folder
        self.names_users = "user=" in code
        self._port = free_port()
        write(folder, code, "ferry.py")
        self._arguments = [sys.executable, *(part.format(port=self._port) for part in command)]
        self._environment = environment_for(running, running.add_app())
        self.start()

    def start(self) -> None:
        self.server = Server(self._arguments, self._port, self._folder, self._environment)

    def restart(self) -> None:
        """Stop and start: what a server that ends by its signal could not send any more, its next start sends."""
        self.server.stop()
        self.start()

    def post(self, path: str, body: Any, **headers: str) -> Any:
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        sent = {"Content-Type": "application/json", "Connection": "close"} | {
            name.replace("_", "-"): value for name, value in headers.items()
        }
        return self.server.http.request("POST", self.server.url + path, body=data, headers=sent)

    def reports(self, kind: str, wanted: int = 1) -> list[dict[str, Any]]:
        """Wait for reports of a kind, and return them."""
        for _ in range(1200):
            found = kept.numbers(self._running.service.records.days, kind)
            if len(found) >= wanted:
                return kept.reports(self._running.service, kind)
            time.sleep(0.05)
        raise AssertionError(f"{len(found)} of {wanted} {kind} reports\n{self.server.log()}")

    def run_of(self, entry_point: str) -> dict[str, Any]:
        """Wait for a whole run of an entry point, and return it."""
        for _ in range(600):
            found = [run for run in self.reports("run") if run["run"]["entry_point"] == entry_point]
            if found:
                return found[0]
            time.sleep(0.05)
        raise AssertionError(f"no run of {entry_point}\n{self.server.log()}")


@pytest.fixture
def watched(request: pytest.FixtureRequest, running: Running, tmp_path: Path) -> Iterator[Watched]:
    found = Watched(running, tmp_path, request.param)
    yield found
    found.server.stop()


TRACE = "0af7651916cd43dd8448eb211c80319c"


@pytest.mark.parametrize("watched", WAYS, indirect=True)
def test_a_request_that_fails(watched: Watched) -> None:
    """Route, query, headers, body, status, trace and trail arrive; secrets do not; the app still reads its body."""
    assert watched.post("/echo", {"pier": "merrow"}).json() == {"pier": "merrow"}
    order = {"passenger": "p-102", "card_pin": 1, "password": "hunter2-3f9a77", "places": [1, 2]}
    answer = watched.post(
        "/sailings/SK-4711/boardings?deck=car&token=hunter2-3f9a77", order,
        traceparent=f"00-{TRACE}-b7ad6b7169203331-01", cookie="sessionid=hunter2-3f9a77", x_passenger="p-102",
    )  # fmt: skip
    assert answer.status == 500
    (report,) = watched.reports("failure")
    assert report["exceptions"][0]["type"] == "RuntimeError" and report["handled"] is False
    assert report["captured_by"] == watched.captured_by
    assert report["run"]["entry_point"] == "POST /sailings/{sailing_id}/boardings"
    assert report["run"]["parent_span_id"] == "b7ad6b7169203331" and report["trace_id"] == TRACE
    request = report["request"]
    assert request["method"] == "POST" and request["route"] == "/sailings/{sailing_id}/boardings"
    assert request["query"] == [["deck", "car"], ["token", "[hidden: token]"]]
    assert request["body"]["json"] == order | {"password": "[hidden: password]", "card_pin": "[hidden: code]"}
    assert "hunter2-3f9a77" not in json.dumps(report)
    assert [crumb["message"] for crumb in report["trail"] if crumb["kind"] == "mark"] == ["places counted"]
    assert report["attributes"].get("user.id") == ("p-102" if watched.names_users else None)
    failed = watched.run_of("POST /sailings/{sailing_id}/boardings")
    assert failed["run"]["outcome"] == "failed" and failed["request"]["status"] == 500
    assert failed["run"]["failures"] == [report["id"]] and failed["run"]["kept"] == "failed"
    healthy = watched.run_of("POST /echo")
    assert healthy["run"]["outcome"] == "ok" and "compare" in healthy["run"]["kept"]


@pytest.mark.parametrize(
    "watched", ["fastapi under uvicorn", "flask under gunicorn", "django under uvicorn"], indirect=True
)
def test_refusals_are_runs_and_no_failures(watched: Watched) -> None:
    """A path that nobody serves, and a body that is refused, are runs with the outcome `refused`."""
    assert watched.server.http.request("GET", watched.server.url + "/nowhere").status == 404
    refused = watched.run_of("GET (no route)")
    assert refused["run"]["outcome"] == "refused" and refused["request"]["status"] == 404
    # Where a server ends by its signal, counts are on disk within half a second.
    time.sleep(1.2)
    watched.restart()
    tallies = watched.reports("tally", 2)
    counted = {(tally["entry_point"], tally["outcome"], tally.get("status")): tally["runs"] for tally in tallies}
    assert counted["GET (no route)", "refused", 404] == 1
    assert counted["GET /up", "ok", 200] >= 1


@pytest.mark.parametrize("watched", ["fastapi under uvicorn"], indirect=True)
def test_bodies_and_streams(watched: Watched) -> None:
    """An unread body is there when the handler dies; forms name their files; long uploads pass through untouched."""
    watched.post("/dies-unread/merrow", {"vehicle_height_m": 4.1})
    boundary = "tide"
    form = (
        (
            f'--{boundary}\r\nContent-Disposition: form-data; name="name"\r\n\r\nIda Moss\r\n'
            f'--{boundary}\r\nContent-Disposition: form-data; name="scan"; filename="pass.png"\r\nContent-Type: image/png\r\n\r\n'
        ).encode()
        + b"\x89PNG and more\r\n"
        + f"--{boundary}--\r\n".encode()
    )
    watched.post("/form", form, Content_Type=f"multipart/form-data; boundary={boundary}")
    assert watched.post("/upload", b"x" * 3_000_000, Content_Type="application/octet-stream").json() == {
        "bytes": 3_000_000
    }
    with pytest.raises(Exception, match=r"IncompleteRead|Connection broken|ended prematurely|InvalidChunkLength"):
        watched.server.http.request("GET", watched.server.url + "/stream/3")
    unread, formed, streamed = watched.reports("failure", 3)
    assert unread["request"]["body"]["json"] == {"vehicle_height_m": 4.1}
    body = formed["request"]["body"]
    assert body["form"] == [["name", "Ida Moss"]]
    assert body["files"] == [{"name": "scan", "file": "pass.png", "type": "image/png", "bytes": 13}]
    assert "PNG and more" not in json.dumps(body)
    assert streamed["exceptions"][-1]["type"] == "OSError" or streamed["exceptions"][0]["type"] == "OSError"
    assert streamed["run"]["entry_point"] == "GET /stream/{count}"
    assert watched.run_of("POST /upload")["request"]["body"] == {
        "type": "application/octet-stream",
        "bytes": 3_000_000,
        "cut": True,
    }


@pytest.mark.parametrize("watched", ["flask under gunicorn"], indirect=True)
def test_wsgi_streams(watched: Watched) -> None:
    """What is raised while an answer streams is caught in its run; a long upload passes through untouched."""
    assert watched.post("/upload", b"x" * 500_000, Content_Type="application/octet-stream").json() == {"bytes": 500_000}
    with pytest.raises(Exception, match=r"IncompleteRead|Connection broken|ended prematurely|InvalidChunkLength"):
        watched.server.http.request("GET", watched.server.url + "/stream/3")
    (report,) = watched.reports("failure")
    assert report["exceptions"][0]["message"] == "the tide took the rest"
    assert report["run"]["entry_point"] == "GET /stream/{count}"


@pytest.mark.parametrize("watched", ["fastapi under uvicorn"], indirect=True)
def test_websockets_are_undisturbed(watched: Watched) -> None:
    """A websocket talks as before; what its handler raises is reported with its path."""
    aiohttp = pytest.importorskip("aiohttp")
    import asyncio

    async def talk() -> str:
        async with (
            aiohttp.ClientSession() as session,
            session.ws_connect(watched.server.url + "/live/merrow") as socket,
        ):
            await socket.send_str("high water?")
            said: str = (await socket.receive()).data
            return said

    try:
        assert asyncio.run(talk()) == "high water?"
    except aiohttp.WSServerHandshakeError:
        pytest.skip("this uvicorn speaks no websockets here")
    (report,) = watched.reports("failure")
    assert report["exceptions"][0]["type"] == "KeyError"
    assert report["run"]["entry_point"] in ("websocket /live/{pier}", "websocket /live/merrow")
