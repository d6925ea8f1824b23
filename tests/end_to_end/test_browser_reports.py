"""What a real browser reports by itself, over https, as it does it: a breach of the content policy, old code, an answer that never came, a crash."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from playwright.sync_api import BrowserContext, Error, sync_playwright

from tests.conftest import until
from tests.end_to_end.browsing import PATIENCE_MS
from tests.end_to_end.conftest import CHROMIUM
from tests.end_to_end.on_loopback import on_loopback
from tests.end_to_end.proxies import Nginx, behind

ROOT = Path(__file__).parents[2]
GUIDE = (ROOT / "docs/pages.md").read_text("utf-8").partition("Reporting-Endpoints: ")
HEADERS = dict(line.split(": ", 1) for line in (GUIDE[1] + GUIDE[2]).partition("\n```")[0].splitlines())
THERE = "https://obitus.skerry.example/page/browser?key=opage_…"
PAGE = b"<!doctype html><title>Pier board</title><h1>Sailings</h1><script>document.title = 'never'</script><script src='/board.js'></script>"
SCRIPT = b"const asked = new XMLHttpRequest(); asked.open('GET', '/tides', false); asked.send();"


class _Board(BaseHTTPRequestHandler):
    """A page that asks its browser to report as the guide says, an old script of it, and an address that never answers."""

    reports_to = ""

    def do_GET(self) -> None:
        if self.path == "/berths":
            self.connection.close()
            return
        body, kind = (SCRIPT, "text/javascript") if self.path == "/board.js" else (PAGE, "text/html")
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, value in HEADERS.items():
            self.send_header(name, value.replace(THERE, self.reports_to).replace("…;", "script-src 'self';"))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


@contextmanager
def trusting(certificate: Path, folder: Path) -> Iterator[BrowserContext]:
    """Open a browser that holds this certificate for a good one, and reports within seconds; behind a wrong one a browser does not report at all."""
    public = x509.load_pem_x509_certificate(certificate.read_bytes()).public_key()
    spki = hashlib.sha256(public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)).digest()
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch_persistent_context(
            str(folder),
            executable_path=CHROMIUM,
            headless=True,
            # What it does in the background is what is tried here.
            ignore_default_args=["--disable-background-networking", "--disable-field-trial-config"],
            args=[
                "--no-sandbox",
                "--short-reporting-delay",
                f"--ignore-certificate-errors-spki-list={base64.b64encode(spki).decode()}",
            ],
        )
        opened.set_default_timeout(PATIENCE_MS)
        yield opened
        opened.close()


@pytest.mark.timeout(400)
def test_a_real_browser_reports_by_itself(tmp_path: Path) -> None:
    """Each kind arrives as what it is: policy and old code as logs, an answer that never came as a log beside a refused run, a crash as a failure."""
    with (
        behind(Nginx, tmp_path) as front,
        on_loopback(_Board, front.certificate) as origin,
        trusting(front.certificate, tmp_path / "browser") as context,
    ):
        running = front.running
        running.add_app("pierboard")
        made = running.ask("POST", "/api/apps/pierboard/keys", {"environment": "production", "origins": [origin]})
        _Board.reports_to = f"https://localhost:{front.port}/page/browser?key={made.json()['key']}"
        page = context.new_page()
        page.goto(origin)
        page.evaluate("fetch('/berths').catch(() => 0)")

        def logs() -> dict[str, str]:
            # The browser acts while it is asked something.
            page.evaluate("1")
            found = running.get("/api/records/logs?app=pierboard&window=24h")["records"]
            return {one["values"]["logger"]: one["values"]["message"] for one in found}

        until(lambda: len(logs()) == 3)
        assert "script-src" in logs()["browser.content_policy"]
        assert "XMLHttpRequest" in logs()["browser.deprecation"]
        assert f"GET {origin}/berths: no answer" in logs()["browser.network"]
        with pytest.raises(Error):
            page.goto("chrome://crash", timeout=5_000)
        until(lambda: running.get("/api/issues?app=pierboard")["issues"])
        (issue,) = running.get("/api/issues?app=pierboard")["issues"]
        assert issue["type"] == "PageCrash" and "the page crashed" in issue["message"]
