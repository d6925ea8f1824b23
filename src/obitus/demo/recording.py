"""Recording what the line's apps report: every player is run under the real client, and what it sends is kept.

``make demo-reports`` writes ``reports.ndjson.zst`` again, after a change to the line, the story or what the client reports.
Each line of it holds a player's number, the day, and one report as it was sent, up to the moment ``ENDS``.
"""

from __future__ import annotations

import gzip
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib import resources
from pathlib import Path
from typing import IO, Any, Final

import zstandard

from obitus.core.clock import DAY_MS, to_ms
from obitus.demo.story import DAYS, PLAYERS

ENDS: Final = datetime(2026, 1, 15, tzinfo=UTC)
"""When the story ends as it is recorded; replayed, its times are moved by whole hours."""
STARTS_MS: Final = to_ms(ENDS) - DAYS * DAY_MS
FILE: Final = Path(str(resources.files("obitus.demo").joinpath("reports.ndjson.zst")))
# Where the line's servers have what this machine has elsewhere.
SERVERS: Final = "/srv/skerry"


def lay_out(target: Path) -> None:
    """Lay the releases' files over one another, each release in a tree of its own."""
    line = Path(str(resources.files("obitus.demo").joinpath("line")))
    releases = sorted(folder for folder in line.iterdir() if folder.is_dir())
    for i, release in enumerate(releases):
        for earlier in releases[: i + 1]:
            shutil.copytree(
                earlier, target / release.name, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__")
            )


def record(say: Callable[[str], None], most_days: int = DAYS) -> list[bytes]:
    """Play all players, each for so many of its days at most, and return the lines of the recording."""
    with tempfile.TemporaryDirectory() as folder:
        deploys = Path(folder).resolve()
        lay_out(deploys)
        lines: list[bytes] = []
        for index, player in enumerate(PLAYERS):
            say(f"{player.app} {player.release} on {player.host}")
            with _Receiver() as receiver:
                _play(index, deploys, receiver, most_days)
            lines += [b"%d %d " % (index, day) + _elsewhere(line, deploys) for day, line in receiver.lines]
        return lines


def write(lines: list[bytes], file: Path = FILE) -> None:
    """Write a recording, compressed."""
    parameters = zstandard.ZstdCompressionParameters.from_level(19, window_log=24, enable_ldm=True)
    file.write_bytes(zstandard.ZstdCompressor(compression_params=parameters).compress(b"".join(lines)))


class _Receiver:
    """Stands in for the service: stores every line, and has nothing to say against any."""

    def __init__(self) -> None:
        self.lines: list[tuple[int, bytes]] = []
        self.day = 0
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_POST(self) -> None:
                body = gzip.decompress(self.rfile.read(int(self.headers["Content-Length"])))
                lines = body.splitlines(keepends=True)
                receiver.lines += [(receiver.day, line) for line in lines]
                answer = json.dumps({"lines": [{"verdict": "stored"} for _ in lines]}).encode()
                self.send_response(200)
                self.send_header("Content-Length", str(len(answer)))
                self.end_headers()
                self.wfile.write(answer)

            def log_message(self, *_: Any) -> None:
                """Say nothing."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}"

    def __enter__(self) -> _Receiver:
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()


def _play(index: int, deploys: Path, receiver: _Receiver, most_days: int) -> None:
    player = PLAYERS[index]
    with _started(index, deploys / player.release, receiver.url) as process:
        assert process.stdin is not None
        assert process.stdout is not None
        for day in range(player.first_day, min(player.end_day, player.first_day + most_days)):
            receiver.day = day
            _tell(process.stdin, str(day))
            if not process.stdout.readline():
                raise RuntimeError(f"{player} ended early (status {process.wait()})")
            if player.dies_at_start:
                break
        process.stdin.close()
        process.wait(60)


@contextmanager
def _started(index: int, code: Path, url: str) -> Iterator[subprocess.Popen[str]]:
    environment = {name: value for name, value in os.environ.items() if not name.startswith("OBITUS_")}
    environment |= {
        "OBITUS_URL": url,
        "OBITUS_KEY": "recorded",
        "PYTHONPATH": str(code),
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    command = [sys.executable, "-m", "obitus.demo.play", str(index), str(STARTS_MS), str(os.getpid())]
    with subprocess.Popen(  # noqa: S603 - our own module
        command, env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as process:
        try:
            yield process
        finally:
            process.kill()


def _tell(pipe: IO[str], line: str) -> None:
    pipe.write(line + "\n")
    pipe.flush()


def _elsewhere(line: bytes, deploys: Path) -> bytes:
    """Return a report as a server of the line would have sent it: its folders instead of this machine's."""
    places = {
        str(deploys): f"{SERVERS}/deploys",
        sys.prefix: f"{SERVERS}/venv",
        str(Path(__file__).parents[2]): f"{SERVERS}/venv/lib/python3.11/site-packages",
        sys.base_prefix: "/usr",
    }
    for here, there in places.items():
        line = line.replace(here.encode(), there.encode())
    return line


if __name__ == "__main__":
    write(record(print))
