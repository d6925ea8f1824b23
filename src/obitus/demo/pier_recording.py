"""Records the page on the pier: builds it, serves it with sailings behind it, and drives it in headless Chromium. Needs Node and the tests' packages."""

from __future__ import annotations

import gzip
import json
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib import resources
from pathlib import Path
from typing import Any, Final

from obitus.demo.pier import APP, ORIGIN, VIEWS, Recorded, View, write
from obitus.demo.recording import lay_out

CHROMIUM: Final = "/usr/bin/chromium"
ROOT: Final = Path(__file__).parents[3]
WAIT_S: Final = 30.0
_CLIENT: Final = resources.files("obitus.service").joinpath("browser_files")


def record(say: Callable[[str], None]) -> Recorded:
    """Drive all views, and return what was reported."""
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        deploys = Path(folder)
        lay_out(deploys)
        maps: dict[str, dict[str, str]] = {}
        views: list[tuple[int, str, str]] = []
        for release in sorted({view.release for view in VIEWS}):
            built = _built(deploys / release / APP / "web", deploys / f"built-{release}")
            maps[release] = {path.relative_to(built).as_posix().removesuffix(".map"): path.read_text() for path in sorted(built.rglob("*.map"))}  # fmt: skip
        for number, view in enumerate(VIEWS):
            say(f"view {number + 1} of {len(VIEWS)}: {view.release}, {', '.join(view.does)}")
            views.append(_seen(playwright, view, deploys))
        return Recorded(maps, tuple(views))


def _built(source: Path, target: Path) -> Path:
    words: list[str | Path] = [
        "node",
        ROOT / "browser" / "build.mjs",
        ROOT / "console" / "package.json",
        source,
        target,
    ]
    subprocess.run(words, check=True, timeout=300)  # noqa: S603 - our own script
    return target


class _Pier:
    """Serves the page, hands its requests on to sailings, and takes what both report."""

    def __init__(self, release: str, deploys: Path) -> None:
        self.page: list[str] = []
        self.service: list[str] = []
        self.sailings = ""
        web, built = deploys / release / APP / "web", deploys / f"built-{release}"
        (entry,) = [one["file"] for one in json.loads((built / ".vite" / "manifest.json").read_text()).values() if one.get("isEntry")]  # fmt: skip
        tag = f'<script src="/browser.js" data-key="opage_recorded" data-release="{release}" data-watch data-sketches></script>'
        html = (web / "index.html").read_text().replace("/app.js", f"/{entry}").replace("<style>", f"{tag}\n<style>")
        pier = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                path = self.path.partition("?")[0].lstrip("/")
                if path in ("browser.js", "sketch.js"):
                    self._answer(200, "text/javascript", _CLIENT.joinpath(path).read_bytes())
                elif path.startswith("assets/") and (built / path).is_file():
                    self._answer(200, "text/javascript", (built / path).read_bytes())
                elif path.startswith("board/"):
                    self._answer(200, "text/html; charset=utf-8", html.encode())
                else:
                    self._answer(204, "text/plain", b"")

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                if self.path.startswith("/page"):
                    pier.page += body.decode().splitlines()
                    self._answer(200, "application/json", b"{}")
                elif self.path.startswith("/reports"):
                    lines = gzip.decompress(body).decode().splitlines()
                    pier.service += lines
                    self._answer(
                        200, "application/json", json.dumps({"lines": [{"verdict": "stored"} for _ in lines]}).encode()
                    )
                else:
                    kept = {
                        name: self.headers[name]
                        for name in ("content-type", "traceparent", "user-agent")
                        if name in self.headers
                    }
                    request = urllib.request.Request(  # noqa: S310 - loopback
                        f"{pier.sailings}{self.path}", body, kept | {"x-passenger": "p-1204"}, method="POST"
                    )
                    try:
                        with urllib.request.urlopen(request, timeout=WAIT_S) as answer:  # noqa: S310 - loopback
                            self._answer(answer.status, "application/json", answer.read())
                    except urllib.error.HTTPError as error:
                        self._answer(error.code, "application/json", error.read())

            def _answer(self, status: int, kind: str, body: bytes) -> None:
                self.send_response(status)
                self.send_header("Content-Type", kind)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *_: Any) -> None:
                """Say nothing."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.port = self._server.server_port
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@contextmanager
def _sailings(tree: Path, release: str, report_to: str) -> Iterator[str]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    environment = {name: value for name, value in os.environ.items() if not name.startswith("OBITUS_")}
    environment |= {
        "OBITUS_URL": report_to,
        "OBITUS_KEY": "recorded",
        "OBITUS_RELEASE": release,
        "PYTHONPATH": str(tree),
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    words = [sys.executable, "-m", "obitus.demo.pier_service", str(port)]
    with subprocess.Popen(words, env=environment) as process:  # noqa: S603 - our own module
        try:
            ends = time.monotonic() + WAIT_S
            while True:
                try:
                    socket.create_connection(("127.0.0.1", port), 1).close()
                    break
                except OSError:
                    if time.monotonic() > ends:
                        raise
                    time.sleep(0.1)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.wait(WAIT_S)


def _seen(playwright: Any, view: View, deploys: Path) -> tuple[int, str, str]:
    pier = _Pier(view.release, deploys)
    host = ORIGIN.removeprefix("https://")
    # Recorded without TLS; a name that ends in "localhost" counts as safe, so that the page may do what it does by https.
    local = f"http://{host}.localhost"
    browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", f"--host-resolver-rules=MAP {host}.localhost 127.0.0.1:{pier.port}"])  # fmt: skip
    began_ms = int(time.time() * 1000)
    try:
        with _sailings(deploys / view.release, view.release, f"http://127.0.0.1:{pier.port}") as pier.sailings:
            context = browser.new_context(viewport={"width": 1024, "height": 720}, locale="en-GB")
            page = context.new_page()
            page.goto(f"{local}/board/{view.sailing}")
            page.get_by_label("Booking").fill("B-77031")
            if view.vehicle:
                page.locator("select[name=vehicle_class]").select_option(view.vehicle)
            if view.height:
                page.get_by_label("Vehicle height").fill(view.height)
                page.get_by_label("Passengers").focus()
            for action in view.does:
                page.wait_for_timeout(1200)
                if action in ("offline", "online"):
                    context.set_offline(action == "offline")
                else:
                    page.get_by_role(
                        "button", name={"quote": "Show the fare", "board": "Board"}[action], exact=True
                    ).click()
            page.wait_for_timeout(1200)
            page.evaluate("obitus.flush()")
            page.goto("about:blank")
            _wait_for(lambda: any('"kind":"tally"' in line for line in pier.page))
            context.close()
    finally:
        browser.close()
        pier.close()
    own = pier.sailings.removeprefix("http://")
    replaced_by = {own: "sailings.skerry.example", f'"host.name":"{socket.gethostname()}"': '"host.name":"pier-1"', f'"host.name": "{socket.gethostname()}"': '"host.name": "pier-1"', local: ORIGIN, str(deploys): "/srv/skerry/deploys", sys.prefix: "/srv/skerry/venv", str(ROOT / "src"): "/srv/skerry/venv/lib/python3.11/site-packages", sys.base_prefix: "/usr", f"127.0.0.1:{pier.port}": host, f"{host}.localhost": host, "HeadlessChrome": "Chrome"}  # fmt: skip
    return began_ms, _replaced(pier.page, replaced_by), _replaced(pier.service, replaced_by)


def _wait_for(holds: Callable[[], bool]) -> None:
    ends = time.monotonic() + WAIT_S
    while not holds():
        if time.monotonic() > ends:
            raise TimeoutError("the page did not report")
        time.sleep(0.05)


def _replaced(lines: list[str], there: dict[str, str]) -> str:
    text = "".join(f"{line}\n" for line in lines)
    for here, name in there.items():
        text = text.replace(here, name)
    return text


if __name__ == "__main__":
    write(record(print))
