"""A page of the ferry line on an origin of its own, with a strict content policy and a service behind it, for the client of pages to watch."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler

from tests.end_to_end.on_loopback import on_loopback

PAGE = """<!doctype html>
<html lang="en"><head><title>Boarding</title>
{head}
</head><body>
<h1>Boarding</h1>
<form id="boarding">
<label>Vehicle height <input id="height" name="height" required></label>
<label>Password <input id="password" type="password"></label>
<button id="board" type="button">Board</button>
</form>
<button id="break" type="button" aria-label="Take the surcharge">x</button>
<script src="/page.js"></script>
</body></html>
"""
SCRIPT = """'use strict';
const byId = (id) => document.getElementById(id);
function surcharge(vehicle) {
  return vehicle.height.metres > 2.1 ? 4 : 0;
}
byId('break').addEventListener('click', function take() {
  surcharge({});
});
byId('board').addEventListener('click', async () => {
  const answer = await fetch('/boardings', { method: 'POST', body: JSON.stringify({ height: '' }) });
  if (!answer.ok) byId('board').textContent = 'refused';
});
"""


@dataclass
class FerryPage:
    """What is served, and what was asked for."""

    url: str = ""
    head: str = ""
    script: str = SCRIPT
    policy: str = ""
    traces: list[str] = field(default_factory=list)
    """The `traceparent` of each boarding."""


@contextmanager
def served() -> Iterator[FerryPage]:
    """Serve the page on loopback."""
    found = FerryPage()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path == "/page.js":
                self._answer(200, "text/javascript", found.script)
            elif self.path.startswith("/missing"):
                self._answer(404, "text/plain", "")
            else:
                self._answer(200, "text/html; charset=utf-8", PAGE.format(head=found.head))

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            found.traces.append(self.headers.get("traceparent", ""))
            self._answer(422, "application/json", json.dumps({"detail": "height: empty"}))

        def _answer(self, status: int, kind: str, text: str) -> None:
            body = text.encode()
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            if found.policy:
                self.send_header("Content-Security-Policy", found.policy)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    with on_loopback(Handler) as found.url:
        yield found
