"""Tracepoints where people meet them: a frame of an issue, the person's own source, an app that runs, the hit on the page."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

import obitus
from tests.cli.shell import Shell, words
from tests.conftest import Running, until
from tests.end_to_end.browsing import at, usable

pytestmark = pytest.mark.timeout(600)
FARES = """\
def quote(passengers):
    base = 880
    if passengers == 13:
        raise ValueError("<b>thirteen</b> on board")
    total = base * passengers
    return total
"""
DESK = """\
import itertools, sys, threading, time, obitus
obitus.watch(release="2.9.0", tracepoints=True)
import fares
threading.Thread(target=lambda: (sys.stdin.read(), obitus.stop(0), __import__("os")._exit(0)), daemon=True).start()
try: fares.quote(13)
except ValueError as error: obitus.record(error)
for number in itertools.count():
    with obitus.run("job sell ticket"): fares.quote(1 + number % 8)
    time.sleep(0.02)
"""
WEB = """\
import os, obitus
obitus.watch(release="2.9.0", tracepoints=True)
import fares
def answer(environ, start_response):
    fares.quote(6)
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [str(os.getpid()).encode()]
app = obitus.WsgiMiddleware(answer)
"""


def environment_of(running: Running, folder: Path) -> dict[str, str]:
    """Write the apps, and return what they need to run."""
    for name, text in (("fares.py", FARES), ("desk.py", DESK), ("web.py", WEB)):
        (folder / name).write_text(text)
    return os.environ | {
        "OBITUS_URL": running.url, "OBITUS_KEY": running.add_app(), "OBITUS_SPOOL": str(folder / "spool"),
        "PYTHONPATH": f"{Path(obitus.__file__).parents[1]}:{folder}",
    }  # fmt: skip


@pytest.fixture
def desk(running: Running, tmp_path: Path) -> Iterator[None]:
    """An app that goes on selling tickets."""
    command = [sys.executable, "desk.py"]
    with subprocess.Popen(
        command, cwd=tmp_path, env=environment_of(running, tmp_path), stdin=subprocess.PIPE
    ) as process:
        yield
        process.communicate()


def test_from_a_frame_to_the_hit(page: Page, running: Running, desk: None, tmp_path: Path) -> None:
    """The line is chosen in source that stays in the browser; the hit comes by itself, and all of its instances are clean at the end."""
    until(lambda: running.issues() and running.get("/api/tracepoints")["instances"])
    at(page, running, "/now/tracepoints")
    expect(page.get_by_text("Allowed in 1 running instance of sailings.")).to_be_visible()
    usable(page)
    sent: list[str] = []
    page.on("request", lambda request: sent.append(request.post_data or ""))
    at(page, running, "/issues/1")
    page.get_by_role("link", name="see it run").last.click()
    expect(page.get_by_label("Line", exact=True)).to_have_value("4")
    page.locator("input[type=file]").set_input_files(str(tmp_path / "fares.py"))
    page.get_by_role("button", name="Line 5", exact=True).click()
    expect(page.get_by_label("Line", exact=True)).to_have_value("5")
    page.get_by_label("Only when").fill("passengers >")
    page.get_by_role("button", name="Set the tracepoint").click()
    expect(page.get_by_role("alert")).to_contain_text("the condition cannot be read")
    page.get_by_label("Only when").fill("passengers > 4")
    page.get_by_label("Work out").fill("passengers\nprice: base * passengers")
    page.get_by_label("Say").fill("<i>{passengers}</i> on board")
    page.get_by_role("heading", name="Set one").click()
    usable(page, walks=False)
    page.get_by_role("button", name="Set the tracepoint").click()
    expect(page.get_by_role("heading", name=re.compile(r"sailings .*fares\.py:5"))).to_be_visible()
    expect(page.get_by_text(re.compile("^<i>[5678]</i> on board$")).first).to_be_visible()
    expect(page.locator("dd").filter(has_text=re.compile(r"^(4400|5280|6160|7040)$")).first).to_be_visible()
    usable(page, walks=False)
    page.get_by_role("link", name="Everything of this run").first.click()
    expect(page.get_by_text(re.compile("^<i>[5678]</i> on board$")).first).to_be_visible()
    assert not any("base * passengers" in body and "def quote" in body for body in sent)

    at(page, running, "/now/tracepoints/1")
    until(lambda: not running.get("/api/tracepoints/1")["tracepoint"]["active"])
    expect(page.get_by_text("over: it was hit", exact=False).first).to_be_visible()


def test_on_the_command_line(running: Running, desk: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Set, listed, shown, its hits, ended: each says what to do next; what is wrong is said before anything is set."""
    until(lambda: running.get("/api/tracepoints")["instances"])
    shell = Shell(tmp_path)
    shell.run("login", running.url, "--token", running.token)
    monkeypatch.chdir(tmp_path)
    add = ("tracepoint", "add", "sailings")
    assert "FILE:LINE is expected" in shell.run(*add, "fares.py", "--for", "10m", status=2)
    assert "a span is expected" in shell.run(*add, "fares.py:5", "--for", "soon", status=2)
    assert "none at 99" in shell.run(*add, "fares.py:99", "--for", "10m", status=2)
    assert "nothing of the app is called" in words(
        shell.run(*add, "fares.py:5", "--for", "10m", "--when", "quote(1)", status=6)
    )
    assert "no single file that ends in tides.py" in words(
        shell.run(*add, "tides.py:5", "--for", "10m", "--checkout", str(tmp_path), status=2)
    )
    assert "No tracepoint is set" in shell.run("tracepoint", "list")
    added = words(
        shell.run(*add, "fares.py:5", "--for", "10m", "--when", "passengers == 6", "--value", "base", "--hits", "500")
    )
    assert "Tracepoint 1 is set for 10 min" in added and "obitus tracepoint hits 1 --follow" in added
    until(lambda: running.get("/api/tracepoints/1")["tracepoint"]["hits"])
    assert "sailings fares.py:5 when passengers == 6" in words(shell.run("tracepoint", "list"))
    assert "● set" in shell.run("tracepoint", "show", "1")
    found = words(shell.run("tracepoint", "hits", "1", "--limit", "1"))
    assert "fares.py:5 base = 880" in found and "passengers = 6" in found and "→ total = base * passengers" in found
    assert "called by desk.<module>" in found
    assert "Tracepoint 1 is over" in shell.run("tracepoint", "end", "1")
    assert "over: owner ended it" in words(shell.run("tracepoint", "list", "--all"))


def test_workers_of_a_server(running: Running, tmp_path: Path) -> None:
    """Each forked worker sets it by itself; after its end none of them sees the line any more."""
    environment = environment_of(running, tmp_path)
    command = [sys.executable, "-m", "gunicorn", "-w", "3", "-b", "127.0.0.1:0", "--log-file", "server.log", "web:app"]
    with subprocess.Popen(command, cwd=tmp_path, env=environment) as server:
        try:
            until(lambda: len(running.get("/api/tracepoints")["instances"]) >= 3)
            log = (tmp_path / "server.log").read_text()
            port = re.search(r"http://127\.0\.0\.1:(\d+)", log)
            assert port is not None, log
            order = {
                "file": "fares.py",
                "line": 5,
                "minutes": 30,
                "values": ["passengers"],
                "hits": 1000,
                "per_second": 100,
            }
            answer = running.ask("POST", "/api/apps/sailings/tracepoints", order)
            assert answer.status == 201

            def one() -> dict[str, Any]:
                found: dict[str, Any] = running.get("/api/tracepoints/1")["tracepoint"]
                return found

            until(lambda: one()["set_in"] >= 3)
            seen: set[bytes] = set()

            def ask() -> bool:
                seen.add(running.http.request("GET", f"http://127.0.0.1:{port[1]}/").data)
                return len(seen) == 3

            until(ask)
            until(lambda: one()["hits"] >= 3)
            assert running.ask("DELETE", "/api/apps/sailings/tracepoints/1").status == 200
            until(lambda: quiet(running, port[1]))
        finally:
            server.terminate()


def quiet(running: Running, port: str) -> bool:
    """Whether no worker counts a hit any more."""
    before = running.get("/api/tracepoints/1")["tracepoint"]["hits"]
    for _ in range(20):
        running.http.request("GET", f"http://127.0.0.1:{port}/")
    time.sleep(1)
    return bool(running.get("/api/tracepoints/1")["tracepoint"]["hits"] == before)
