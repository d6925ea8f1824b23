"""Each guide, followed to the letter: what stands there is copied into an app that knows nothing of Obitus, and reports."""

from __future__ import annotations

import json
import os
import re
import shlex
import subprocess
import sys
import sysconfig
import textwrap
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
import urllib3

from tests import kept
from tests.client.programs import Server, free_port, write
from tests.conftest import Running

GUIDES = Path(__file__).parents[2] / "docs/guides"
_BLOCK = re.compile(r"^```(\w*)\n(.*?)^```", re.MULTILINE | re.DOTALL)


@dataclass
class Page:
    """A guide as a reader has it: what stands before a block of code, and the block."""

    blocks: list[tuple[str, str]]

    @classmethod
    def of(cls, kind: str, running: Running, key: str) -> Page:
        """Read a guide with this service's address and an app's key in it, as the Set-up page shows them."""
        text = (GUIDES / f"{kind}.md").read_text("utf-8")
        text = text.replace("http://127.0.0.1:8611", running.url).replace("okey_…", key)
        found = []
        for block in _BLOCK.finditer(text):
            before = text[: block.start()].strip().rpartition("\n\n")[2].rpartition("```")[2]
            found.append((before.strip(), block[2]))
        return cls(found)

    def block(self, title: str) -> str:
        """Return the block that stands under a line which begins like this."""
        (found,) = [lines for before, lines in self.blocks if before.startswith(title)]
        return found

    def environment(self, here: Path, **more: str) -> dict[str, str]:
        """Return what the lines to set leave in a shell."""
        lines = self.block("Set these variables")
        shell = subprocess.run(["bash", "-ec", f"{lines}\nenv -0"], capture_output=True, check=True)
        given = dict(pair.split("=", 1) for pair in shell.stdout.decode().split("\0") if "=" in pair)
        return given | {"OBITUS_SPOOL": str(here / "spool"), "PYTHONDONTWRITEBYTECODE": "1"} | more


def copied(program: str, *, first: str = "", instead: str = "") -> str:
    """Return a program with the first lines put in front, and with a block in the place of the line it begins with."""
    program = textwrap.dedent(program).strip() + "\n"
    if instead:
        line = instead.partition("\n")[0]
        assert program.count(line) == 1, line
        program = program.replace(line, instead.rstrip("\n"))
    return f"{first}\n{program}"


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return the programs of an environment that has frameworks and servers, and nothing of Obitus."""
    folder = tmp_path_factory.mktemp("shop")
    subprocess.run([sys.executable, "-m", "venv", str(folder)], check=True)
    # What is installed here is seen from there, apart from this checkout: it is not in that folder.
    (site,) = folder.glob("lib/python3*/site-packages")
    (site / "shelf.pth").write_text(sysconfig.get_path("purelib") + "\n")
    assert subprocess.run([folder / "bin/python", "-c", "import obitus"], capture_output=True).returncode == 1
    return folder / "bin"


def install(page: Page, shop: Path) -> None:
    """Run the line of the guide, without any index of packages."""
    environment = {"PATH": f"{shop}:/usr/bin:/bin", "HOME": str(shop.parent), "PIP_NO_INDEX": "1"}
    line = page.block("Install the client")
    done = subprocess.run(["bash", "-ec", line], env=environment, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    where = [str(shop / "python"), "-c", "import obitus; print(obitus.__file__)"]
    assert str(shop.parent) in subprocess.run(where, capture_output=True, text=True).stdout


def follow(kind: str, running: Running, shop: Path) -> Page:
    """Add an app as the Set-up page does, and install what its guide says; return the guide."""
    page = Page.of(kind, running, running.add_app())
    install(page, shop)
    return page


def taken(running: Running, count: int = 1) -> list[dict[str, Any]]:
    """Wait for failures of the app, and return them."""
    ends = time.monotonic() + 60
    while True:
        reports = kept.reports(running.service, "failure")
        found = [report for report in reports if report.get("captured_by") != "check"]
        if len(found) >= count or time.monotonic() > ends:
            assert len(found) == count, [(report["exceptions"][0]["type"], report["captured_by"]) for report in found]
            return found
        time.sleep(0.1)


def check(shop: Path, environment: dict[str, str], folder: Path) -> None:
    """Run what the guide says to run when nothing turns."""
    done = subprocess.run(
        [shop / "python", "-m", "obitus", "check"], env=environment, cwd=folder, capture_output=True, text=True
    )
    assert done.returncode == 0 and "WRONG" not in done.stdout, done.stdout


def serve(
    running: Running, shop: Path, command: list[str], folder: Path, environment: dict[str, str], count: int = 1
) -> None:
    """Start a server, ask for one path, which fails, and wait until that has arrived as the latest of so many."""
    port = free_port()
    words = [str(shop / "python"), *(word.replace("PORT", str(port)) for word in command)]
    server = Server(words, port, folder, environment)
    try:
        try:
            answer = server.http.request("GET", f"{server.url}/sailings/s-7")
        except urllib3.exceptions.HTTPError as error:
            raise AssertionError(server.log()) from error
        assert answer.status == 500, (answer.status, server.log())
        report = taken(running, count)[-1]
    finally:
        server.stop()
    assert report["run"]["entry_point"] == "GET /sailings/{sailing}" and report["handled"] is False


ASGI = """
    from fastapi import FastAPI

    app = FastAPI()

    @app.get("/up")
    async def up(): return "up"

    @app.get("/sailings/{sailing}")
    async def sailing(sailing: str): return {"berth": {}[sailing]}
"""
WSGI = """
    from flask import Flask

    app = Flask(__name__)

    @app.get("/up")
    def up(): return "up"

    @app.get("/sailings/<sailing>")
    def sailing(sailing): return {"berth": {}[sailing]}
"""


@pytest.mark.timeout(600)
@pytest.mark.parametrize("more", [False, True], ids=["as it stands", "with all that may be set"])
def test_fastapi(running: Running, shop: Path, tmp_path: Path, more: bool) -> None:
    page = follow("fastapi", running, shop)
    block = page.block("Where the app is made")
    if more:
        block = f"app = FastAPI()\n{page.block('Options')}"
    write(tmp_path, copied(ASGI, first=page.block("First lines"), instead=block), "harbour.py")
    environment = page.environment(tmp_path)
    serve(running, shop, ["-m", "uvicorn", "harbour:app", "--port", "PORT"], tmp_path, environment)
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_flask(running: Running, shop: Path, tmp_path: Path) -> None:
    page = follow("flask", running, shop)
    program = copied(WSGI, first=page.block("First lines"), instead=page.block("Where the app is made"))
    write(tmp_path, program, "harbour.py")
    environment = page.environment(tmp_path)
    serve(running, shop, ["-m", "gunicorn", "harbour:app", "-b", "127.0.0.1:PORT"], tmp_path, environment)
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_django(running: Running, shop: Path, tmp_path: Path) -> None:
    """A project as its own command makes it, under three servers."""
    page = follow("django", running, shop)
    subprocess.run([shop / "python", "-m", "django", "startproject", "harbour", str(tmp_path)], check=True)
    first = page.block("First lines")
    (tmp_path / "manage.py").write_text(first + (tmp_path / "manage.py").read_text())
    for name in ("wsgi", "asgi"):
        path = tmp_path / f"harbour/{name}.py"
        lines = path.read_text().rstrip().split("\n")
        assert lines[-1].startswith("application = ")
        path.write_text("\n".join([first, *lines[:-1], page.block(f"Last line of {name}.py")]))
    views = """
        from django.http import HttpResponse
        from django.urls import path

        def up(request): return HttpResponse("up")
        def sailing(request, sailing): return HttpResponse({}[sailing])

        urlpatterns = [path("up", up), path("sailings/<str:sailing>", sailing)]
    """
    (tmp_path / "harbour/urls.py").write_text(textwrap.dedent(views))
    environment = page.environment(tmp_path)
    servers = (
        ["-m", "gunicorn", "harbour.wsgi", "-b", "127.0.0.1:PORT"],
        ["-m", "uvicorn", "harbour.asgi:application", "--port", "PORT"],
        ["manage.py", "runserver", "127.0.0.1:PORT", "--noreload"],
    )
    for count, server in enumerate(servers, 1):
        serve(running, shop, server, tmp_path, environment, count)
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_celery(running: Running, shop: Path, tmp_path: Path) -> None:
    page = follow("celery", running, shop)
    for name in ("queue", "control"):
        (tmp_path / name).mkdir()
    program = """
        from celery import Celery

        app = Celery("harbour", broker="filesystem://", broker_transport_options={
            "data_folder_in": "queue", "data_folder_out": "queue", "control_folder": "control"})

        @app.task(name="harbour.print_pass")
        def print_pass(passenger): raise LookupError(passenger)
    """
    write(tmp_path, copied(program, first=page.block("First lines")), "harbour.py")
    environment = page.environment(tmp_path)
    give = "import harbour; harbour.print_pass.delay('p-101')"
    subprocess.run([shop / "python", "-c", give], env=environment, cwd=tmp_path, check=True)
    worker = subprocess.Popen(
        [shop / "python", "-m", "celery", "-A", "harbour", "worker", "-c", "1", "--without-mingle", "--without-gossip"],
        env=environment, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        (report,) = taken(running)
    finally:
        worker.terminate()
        worker.wait(30)
    assert report["run"]["entry_point"] == "job harbour.print_pass" and report["handled"] is False
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_script(running: Running, shop: Path, tmp_path: Path) -> None:
    page = follow("script", running, shop)
    around = page.block("Around each unit of work")
    program = page.block("First lines") + around.replace("...", "berths = {}[7]")
    write(tmp_path, program, "nightly.py")
    environment = page.environment(tmp_path)
    done = subprocess.run([shop / "python", "nightly.py"], env=environment, cwd=tmp_path, capture_output=True)
    assert done.returncode == 1
    (report,) = taken(running)
    assert report["run"]["entry_point"] == "job nightly-manifest" and report["handled"] is False
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_command(running: Running, shop: Path, tmp_path: Path) -> None:
    page = follow("command", running, shop)
    line = page.block("In front of the command").replace("COMMAND ARGUMENT…", "sh -c 'echo no tide table >&2; exit 3'")
    environment = page.environment(tmp_path)
    environment["PATH"] = f"{shop}:{environment['PATH']}"
    done = subprocess.run(["bash", "-c", line], env=environment, cwd=tmp_path, capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (3, "no tide table\n")
    (report,) = taken(running)
    assert "3" in report["exceptions"][0]["message"] and "no tide table" in json.dumps(report)
    check(shop, environment, tmp_path)


@pytest.mark.timeout(600)
def test_opentelemetry(running: Running, tmp_path: Path) -> None:
    """An app whose exporter is set up by the environment alone; nothing is installed for it."""
    key = running.add_app()
    page = Page.of("opentelemetry", running, key)
    program = """
        from opentelemetry import trace
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
        from opentelemetry.sdk.trace import TracerProvider
        from opentelemetry.sdk.trace.export import BatchSpanProcessor

        provider = TracerProvider()
        provider.add_span_processor(BatchSpanProcessor(OTLPSpanExporter()))
        try:
            with provider.get_tracer("harbour").start_as_current_span("GET /sailings", kind=trace.SpanKind.SERVER):
                {}["s-7"]
        except KeyError:
            pass
        provider.shutdown()
    """
    write(tmp_path, program, "harbour.py")
    exporters = dict(line.split("=") for line in page.block("Where its exporter").split())
    environment = page.environment(tmp_path) | exporters
    assert not [name for name in environment if name.startswith("OBITUS_") and name != "OBITUS_SPOOL"]
    done = subprocess.run([sys.executable, "harbour.py"], env=environment, cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    (report,) = taken(running)
    assert report["exceptions"][0]["type"] == "KeyError" and report["release"] == "1.0.0"


FOR_PEOPLE = ("ask", "cause", "now", "shift")
"""Guides for those who look, not for those who set an app up."""


@pytest.mark.parametrize("guide", FOR_PEOPLE)
def test_every_command_is_one(guide: str) -> None:
    """Each command that a guide shows is there, with the options that it shows."""
    text = (GUIDES / f"{guide}.md").read_text("utf-8")
    shown = [shlex.split(line.strip().removeprefix("$ ").rpartition(" | ")[2], comments=True) for block in text.split("```")[1::2] for line in block.splitlines() if line.strip().removeprefix("$ ").rpartition(" | ")[2].startswith("obitus ")]  # fmt: skip
    assert shown
    for _, *words in shown:
        if "--" in words:
            words = words[: words.index("--")]
        names = (
            words[:2]
            if words[0] in ("app", "people", "handing", "alerts", "channel", "target", "tracepoint", "keep")
            else words[:1]
        )
        help_of = subprocess.run([sys.executable, "-m", "obitus", *names, "--help"], capture_output=True, text=True)
        assert help_of.returncode == 0, names
        for option in (word.partition("=")[0] for word in words if word.startswith("--")):
            assert f"{option} " in help_of.stdout, (names, option)


def test_no_guide_is_left_out() -> None:
    """Every guide has a test here of its name."""
    here = set(globals()) | {f"test_{name}" for name in FOR_PEOPLE}
    assert all(f"test_{path.stem}" in here for path in GUIDES.glob("*.md")), os.listdir(GUIDES)
