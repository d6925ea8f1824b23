"""Programs of their own, watched through the environment, for tests that need a real process."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import textwrap
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import urllib3
from urllib3.connection import HTTPConnection
from urllib3.connectionpool import HTTPConnectionPool

from tests.conftest import Running


def environment_for(running: Running, key: str, **more: str) -> dict[str, str]:
    """Return the environment of an app that reports to this service."""
    return os.environ | {"OBITUS_URL": running.url, "OBITUS_KEY": key, "OBITUS_RELEASE": "2.9.0", "PYTHONDONTWRITEBYTECODE": "1"} | more  # fmt: skip


def write(folder: Path, code: str, name: str = "boarding.py") -> Path:
    """Write a program's file."""
    path = folder / name
    path.write_text(textwrap.dedent(code))
    return path


def run(
    running: Running, key: str, folder: Path, code: str, *, timeout: float = 150, **more: str
) -> subprocess.CompletedProcess[str]:
    """Run a program to its end."""
    script = write(folder, code)
    return subprocess.run(
        [sys.executable, str(script)],
        env=environment_for(running, key, **more),
        capture_output=True,
        text=True,
        timeout=timeout,
        cwd=folder,
    )


def free_port() -> int:
    """Return a port that nobody listens on."""
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        return int(taken.getsockname()[1])


class Answering(BaseHTTPRequestHandler):
    """Stands in for a service or a proxy, and writes nothing on the standard error."""

    def read_body(self) -> bytes:
        """Return the request's body."""
        return self.rfile.read(int(self.headers["Content-Length"]))

    def answer(self, status: int, body: bytes, headers: Mapping[str, str] | None = None) -> None:
        """Answer the request."""
        self.send_response(status)
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@contextmanager
def serving(handler: type[BaseHTTPRequestHandler]) -> Iterator[ThreadingHTTPServer]:
    """Let a handler answer on loopback meanwhile."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


class _InOnePiece(HTTPConnection):
    """Sends head and body together, so that the body has arrived when a handler dies at once."""

    _head = b""

    def send(self, data: Any) -> None:
        is_head = isinstance(data, bytes) and data.endswith(b"\r\n\r\n") and b"\r\nContent-Length: " in data
        if is_head and b"\r\nContent-Length: 0\r\n" not in data:
            self._head += data
            return
        if self._head:
            data = self._head + (data if isinstance(data, bytes) else b"".join(data))
            self._head = b""
        super().send(data)


class _Pool(HTTPConnectionPool):
    ConnectionCls = _InOnePiece


class Server:
    """A server started with a command line, asked over real connections."""

    def __init__(self, command: list[str], port: int, folder: Path, environment: dict[str, str]) -> None:
        self.url = f"http://127.0.0.1:{port}"
        self._log = (folder / "server.log").open("w+")
        self.process = subprocess.Popen(
            command, env=environment, cwd=folder, stdout=self._log, stderr=subprocess.STDOUT, start_new_session=True
        )
        # A server closes a connection on which a handler raised: each request gets one of its own.
        self.http = urllib3.PoolManager(retries=False, timeout=150, headers={"Connection": "close"})
        self.http.pool_classes_by_scheme = {"http": _Pool}
        for _ in range(300):
            try:
                self.http.request("GET", self.url + "/up")
                # A server that closes without saying so may do it while the next request is on its way.
                self.http.clear()
                return
            except urllib3.exceptions.HTTPError:
                if self.process.poll() is not None:
                    break
                time.sleep(0.05)
        raise AssertionError(self.log())

    def log(self) -> str:
        """Return what it wrote so far."""
        return Path(self._log.name).read_text()

    def stop(self, how: signal.Signals = signal.SIGTERM) -> None:
        """Stop it, and what it started."""
        if self.process.poll() is None:
            self.process.send_signal(how)
            try:
                self.process.wait(15)
            except subprocess.TimeoutExpired:
                os.killpg(self.process.pid, signal.SIGKILL)
                self.process.wait(5)
        self.http.clear()
        self._log.close()
