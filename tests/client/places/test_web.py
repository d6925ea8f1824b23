"""Other people's web frameworks and servers: reported once, unhandled, with route, request and body; the app unchanged."""

from __future__ import annotations

import contextlib
import http.client
import json
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from tests import kept
from tests.client.places.matrix import note
from tests.client.places.web import GUNICORN, HEAD, PLACES, Web
from tests.client.programs import Server, environment_for, free_port, write
from tests.conftest import Running

ORDER = {"passenger": "p-102", "vehicle_height": ""}


def ask(
    folder: Path, place: Web, environment: dict[str, str], arrived: Running | None = None
) -> tuple[int, dict[str, str], bytes]:
    """Start the app, send the request that fails, and return what came back."""
    port = free_port()
    command = [sys.executable, *(part.replace("{port}", str(port)) for part in place.command)]
    server = Server(command, port, folder, environment)
    try:
        status, given, data = post_at_once(port, "/piers/eastholm/boardings", ORDER)
        if arrived is not None:
            _wait(arrived, folder / "spool")
        headers = {name.lower(): value for name, value in given if name.lower() not in ("date", "content-length")}
        return status, headers, data.replace(str(port).encode(), b"port")
    except Exception as error:
        # The standard library's server closes the connection on which a handler raised.
        if arrived is not None:
            _wait(arrived, folder / "spool")
        return 0, {}, type(error).__name__.encode()
    finally:
        server.stop()


def post_at_once(port: int, path: str, order: Any) -> tuple[int, list[tuple[str, str]], bytes]:
    """Send head and body in one piece, so that the body has arrived when the handler dies; return status, headers, body."""
    body = json.dumps(order).encode()
    head = f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: application/json\r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n"
    with socket.create_connection(("127.0.0.1", port), timeout=150) as asking:
        asking.sendall(head.encode() + body)
        with contextlib.closing(http.client.HTTPResponse(asking, method="POST")) as answer:
            answer.begin()
            return answer.status, answer.getheaders(), answer.read()


def _wait(running: Running, spool: Path) -> None:
    """Wait until the failure is there and its run is over: a server that is ended by a signal leaves both to the next start otherwise."""
    ends = time.monotonic() + 60
    while time.monotonic() < ends:
        counted = running.service.records.reader.rows("SELECT SUM(runs) AS n FROM run_counts WHERE outcome = 'failed'")[
            0
        ]["n"]
        going_on, noted = _stories(spool)
        if kept.numbers(running.service.records.days, "failure") and (counted or noted) and not going_on:
            return
        time.sleep(0.05)


def _stories(spool: Path) -> tuple[bool, bool]:
    """Return whether the app's notes say that a run goes on (the next start would report it as cut off), and whether they count a failed one."""
    stories = []
    for path in spool.rglob("*.story"):
        with contextlib.suppress(FileNotFoundError):
            stories.append(json.loads(path.read_text()))
    tallies = [tally for story in stories for tally in story["tallies"]]
    return any(story["runs"] for story in stories), any(tally.get("outcome") == "failed" for tally in tallies)


@pytest.mark.parametrize("place", PLACES, ids=lambda place: f"{place.framework} under {place.server}".replace(" ", "-"))
def test_a_request_that_fails(running: Running, tmp_path: Path, place: Web) -> None:
    """One failure with the request that met it, on its own failed run; the client of the app sees what it saw without us."""
    write(tmp_path, HEAD + place.code, "ferry.py")
    environment = environment_for(running, running.add_app(), PYTHONPATH=str(tmp_path))
    watched = ask(tmp_path, place, environment, running)
    unwatched = ask(tmp_path, place, environment | {"OBITUS_OFF": "1"})
    next_start = "import obitus\nobitus.watch()\nobitus.flush(60)"
    subprocess.run([sys.executable, "-c", next_start], env=environment, check=True, timeout=150)
    found = kept.reports(running.service, "failure")
    assert [report["exceptions"][0]["message"] for report in found] == ["gangway is up"], found
    (report,) = found
    counted = running.service.records.reader.rows(
        "SELECT entry_point, outcome, SUM(runs) AS n FROM run_counts GROUP BY 1, 2"
    )
    runs = {(row["entry_point"], row["outcome"]): row["n"] for row in counted}
    row = {
        "reported once": True,
        "route": report.get("run", {}).get("entry_point") == place.route and runs.get((place.route, "failed")) == 1,
        "request": report.get("request", {}).get("method") == "POST" and "eastholm" in report["request"]["url"],
        "body": report.get("request", {}).get("body", {}).get("json") == ORDER,
        "unhandled": report["handled"] is False,
        "app unchanged": watched == unwatched,
    }
    note(f"{place.framework}, {place.server}", "web", row)
    wanted = dict.fromkeys(row, True) | {"body": place.body}
    seen = json.dumps([report.get("run"), str(runs), report["captured_by"], str(watched), str(unwatched)], indent=1)
    assert row == wanted, seen
    assert report["exceptions"][0]["frames"][-1]["function"] == "board"


def test_a_server_that_ends_a_handler_at_its_time_limit(running: Running, tmp_path: Path) -> None:
    """The worker is ended in the middle of a request: that request failed, and says where it was."""
    code = "import time\nfrom flask import Flask\napp = Flask('ferry')\n@app.get('/up')\ndef up(): return 'up'\n@app.post('/piers/<pier>/boardings')\ndef post(pier):\n    obitus.mark('waiting')\n    time.sleep(60)\napp.wsgi_app = obitus.WsgiMiddleware(app.wsgi_app)\n"
    place = Web("Flask", "gunicorn", code, (*GUNICORN, "--timeout", "2", "--graceful-timeout", "1"))
    write(tmp_path, HEAD + code, "ferry.py")
    environment = environment_for(running, running.add_app(), PYTHONPATH=str(tmp_path))
    ask(tmp_path, place, environment, running)
    next_start = "import obitus\nobitus.watch()\nobitus.flush(60)"
    subprocess.run([sys.executable, "-c", next_start], env=environment, check=True, timeout=150)
    (report,) = kept.reports(running.service, "failure")
    assert report["exceptions"][0]["type"] == "SystemExit" and report["handled"] is False
    assert (
        report["run"]["entry_point"] == "POST /piers/{pier}/boardings" and report["trail"][-1]["message"] == "waiting"
    )
    assert any(frame["function"] == "post" for frame in report["exceptions"][0]["frames"])
