"""A stand-in for all that messages are sent to: takes mail and webhooks on this machine, and shows what arrived.

Mail is taken as RFC 5321 asks of a server that delivers to itself, without TLS and sign-in: it listens on loopback alone.
"""

from __future__ import annotations

import html
import json
import socketserver
import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from email import message_from_bytes, policy
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, Final

MOST_KEPT: Final = 200
MOST_BYTES: Final = 2 * 1024 * 1024
LONGEST_LINE: Final = 2000
HOST: Final = "127.0.0.1"


@dataclass(frozen=True, slots=True)
class Arrived:
    """Something that arrived: by which way, to whom or what, and what it says."""

    way: str
    to: str
    title: str
    text: str


class Receiver:
    """Listens for webhooks on one port and for mail on another; 0 takes any that is free. ``on_arrival`` is called for each arrival."""

    def __init__(self, port: int = 0, mail_port: int = 0, on_arrival: Callable[[Arrived], None] | None = None) -> None:
        self.arrived: deque[Arrived] = deque(maxlen=MOST_KEPT)
        self._on_arrival = on_arrival
        self._web = _Web((HOST, port), self)
        try:
            self._mail = _Mail((HOST, mail_port), self)
        except OSError:
            self._web.server_close()
            raise
        self._threads = [
            threading.Thread(target=one.serve_forever, args=(0.1,), name="obitus-receiver", daemon=True)
            for one in (self._web, self._mail)
        ]

    @property
    def port(self) -> int:
        """Where webhooks are taken, and what arrived is shown."""
        return int(self._web.server_address[1])

    @property
    def mail_port(self) -> int:
        """Where mail is taken."""
        return int(self._mail.server_address[1])

    def start(self) -> None:
        """Listen from now on."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Listen no more."""
        for server, thread in zip((self._web, self._mail), self._threads, strict=True):
            if thread.is_alive():
                server.shutdown()
                thread.join()
            server.server_close()

    def add(self, arrived: Arrived) -> None:
        """Keep something that arrived."""
        self.arrived.append(arrived)
        if self._on_arrival is not None:
            self._on_arrival(arrived)

    def page(self) -> str:
        """Return what arrived as a page, the latest first. All of it is text."""
        shown = "".join(
            f"<article><h2>{html.escape(report.title)}</h2><p>{html.escape(report.way)} to {html.escape(report.to)}</p><pre>{html.escape(report.text)}</pre></article>"
            for report in reversed(self.arrived)
        )
        return _PAGE.format(shown=shown or "<p>Nothing has arrived yet.</p>")


_PAGE: Final = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>What arrived</title>
<style>body{{font:15px/1.5 Georgia,serif;max-width:60rem;margin:2rem auto;padding:0 1rem;background:#fbf8f2;color:#2a2622}}
article{{border-top:1px solid #d8d0c4;padding:.5rem 0}}h2{{font-size:1.1rem;margin:0}}p{{margin:0;color:#6b645c}}
pre{{white-space:pre-wrap;overflow-wrap:anywhere}}</style></head>
<body><h1>What arrived</h1><p>Mail and webhooks that the service sent here; reload to see more.</p>{shown}</body></html>"""


class _Web(ThreadingHTTPServer):
    daemon_threads = True
    block_on_close = False

    def __init__(self, address: tuple[str, int], receiver: Receiver) -> None:
        self.receiver = receiver
        super().__init__(address, _Request)


class _Request(BaseHTTPRequestHandler):
    server: _Web
    timeout = 10

    def do_POST(self) -> None:
        length = self.headers.get("Content-Length", "")
        if not length.isdigit() or int(length) > MOST_BYTES:
            self._answer(413, "text/plain", b"a body of up to 2 MB is expected\n")
            return
        body = self.rfile.read(int(length)).decode("utf-8", "replace")
        title, text = _said(body)
        signed = "signed" if self.headers.get("Obitus-Signature") else "not signed"
        self.server.receiver.add(Arrived(f"webhook, {signed},", self.path, title, text))
        self._answer(200, "text/plain", b"kept\n")

    def do_GET(self) -> None:
        self._answer(200, "text/html; charset=utf-8", self.server.receiver.page().encode())

    def log_message(self, *_: Any) -> None:
        """Say nothing: what arrived is shown."""

    def _answer(self, status: int, content_type: str, body: bytes) -> None:
        self.send_response(status)
        self.send_header("Content-Type", content_type)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
        self.end_headers()
        self.wfile.write(body)


def _said(body: str) -> tuple[str, str]:
    """Return a title and a text for what a webhook sent."""
    try:
        event = json.loads(body)
        data = event["data"]
        return str(data["title"]), str(data["plain"])
    except (ValueError, LookupError, TypeError):
        return "A body", body


class _Mail(socketserver.ThreadingTCPServer):
    daemon_threads = True
    block_on_close = False
    allow_reuse_address = True

    def __init__(self, address: tuple[str, int], receiver: Receiver) -> None:
        self.receiver = receiver
        super().__init__(address, _Session)


class _Session(socketserver.StreamRequestHandler):
    server: _Mail
    timeout = 10

    def handle(self) -> None:
        to: list[str] = []
        try:
            self._say("220 obitus receiver")
            while line := self.rfile.readline(LONGEST_LINE):
                order, _, rest = line.decode("utf-8", "replace").strip().partition(" ")
                match order.upper():
                    case "EHLO" | "HELO":
                        self._say("250 at your service")
                    case "MAIL":
                        to = []
                        self._say("250 OK")
                    case "RCPT" if len(to) < 100:
                        to.append(rest.partition(":")[2].strip(" <>"))
                        self._say("250 OK")
                    case "DATA" if to:
                        self._say("354 go on, and end with a dot")
                        self._keep(to)
                    case "RSET" | "NOOP":
                        self._say("250 OK")
                    case "QUIT":
                        self._say("221 bye")
                        return
                    case _:
                        self._say("503 not now, or not known")
        except OSError:
            # Whoever sent it has left.
            return

    def _keep(self, to: list[str]) -> None:
        lines: list[bytes] = []
        size = 0
        while (line := self.rfile.readline(LONGEST_LINE * 10)) and line.rstrip(b"\r\n") != b".":
            size += len(line)
            if size <= MOST_BYTES:
                # A dot at the start of a line was doubled on its way.
                lines.append(line[1:] if line.startswith(b"..") else line)
        if size > MOST_BYTES:
            self._say("552 too large")
            return
        mail = message_from_bytes(b"".join(lines), policy=policy.default)
        assert isinstance(mail, EmailMessage)
        body = mail.get_body(("plain", "html"))
        text = str(body.get_content()) if body is not None else ""
        self.server.receiver.add(Arrived("mail", ", ".join(to), str(mail["Subject"] or "(no subject)"), text))
        self._say("250 kept")

    def _say(self, text: str) -> None:
        self.wfile.write(f"{text}\r\n".encode())
