"""Everything that strangers and broken senders do to a service, each to be done again and again."""

from __future__ import annotations

import contextlib
import gzip
import json
import os
import random
import re
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import urllib3
import zstandard

from bench.endure.target import Target, report
from obitus.service.intake.export_bounds import message
from obitus.store.whole_files import written_aside

MIB = 1024 * 1024
PATHS_AT_ONCE = 6
_LEFT_OUT = re.compile(r"/api/(live|sign-out|me/(tokens|sessions|password)|apps/[^/]+(?:/keys/.*)?$)")


def ask(url: str, method: str, path: str, headers: dict[str, str], body: Any = None) -> int:
    """Ask once; return the status, 0 for a connection that was cut."""
    try:
        with urllib3.PoolManager(retries=False, timeout=20) as http:
            return http.request(method, url + path, body=body, headers=headers).status
    except (urllib3.exceptions.HTTPError, OSError):
        return 0


def hold(port: int, first: bytes, count: int, drip: bytes = b"") -> None:
    """Open connections, say the first words on each, and then next to nothing."""
    held: list[socket.socket] = []
    for _ in range(count):
        with contextlib.suppress(OSError):
            one = socket.create_connection(("127.0.0.1", port), timeout=5)
            one.sendall(first)
            held.append(one)
    for _ in range(20):
        time.sleep(0.5)
        for one in held if drip else ():
            with contextlib.suppress(OSError):
                one.sendall(drip)
    for one in held:
        one.close()


def others(target: Target, until_s: float) -> dict[str, Callable[[], object]]:
    """Return everything that is done to the service, each to be done again and again."""
    url, port = target.url, target.port
    greedy = {"Authorization": f"Bearer {target.greedy}"}
    zst, gz = greedy | {"Content-Encoding": "zstd"}, greedy | {"Content-Encoding": "gzip"}
    proto = gz | {"Content-Type": "application/x-protobuf"}
    js = {"Content-Type": "application/json"}
    newlines = zstandard.compress(b"\n" * (32 * MIB))
    frames = zstandard.compress(b"") * 1_000_000
    members = gzip.compress(b"") * 500_000
    zeros = gzip.compress(bytes(200 * MIB))
    empty = gzip.compress(message(1, message(2, b"\x12\x00" * 1_000_000)))
    texts = ["eyJ-" * 2000, "pwd" * 2600, "pwd=" * 2000, "[parameters: " * 600, "\n\tat a.b(C.java:1)\n" * 400, "set-cookie: " * 600, "key=" * 2000, "(" * 8000]  # fmt: skip
    heavy = b"\n".join(json.dumps(report(text)[1]).encode() for text in texts * 20)
    head = b"POST /reports HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + target.greedy.encode()
    return {
        "newlines, packed": lambda: ask(url, "POST", "/reports", zst, newlines),
        "empty frames": lambda: ask(url, "POST", "/reports", zst, frames),
        "empty members": lambda: ask(url, "POST", "/v1/logs", gz | js, members),
        "zeros, packed": lambda: ask(url, "POST", "/reports", gz, zeros),
        "a million empty records": lambda: ask(url, "POST", "/v1/logs", proto, empty),
        "texts made against patterns": lambda: ask(url, "POST", "/reports", greedy, heavy),
        "large bodies of strangers": lambda: ask(url, "POST", "/api/sign-in", js, b"x" * (20 * MIB)),
        "large bodies without a key": lambda: ask(url, "POST", "/api/apps", js, b"x" * (20 * MIB)),
        "large heads": lambda: ask(url, "GET", "/health", {"X": "a" * 500_000}),
        "guesses": lambda: ask(url, "POST", "/api/sign-in", js, json.dumps({"name": "owner", "password": str(random.random())})),
        "slow heads": lambda: hold(port, b"GET /health HTTP/1.1\r\nHost: 127.0.0.1\r\nX", 100, b"x"),
        "slow bodies": lambda: hold(port, head + b"\r\nContent-Length: 90000\r\n\r\n{", 64, b" "),
        "idle connections": lambda: hold(port, b"", 1200),
        "listeners that read nothing": lambda: hold(port, b"GET /api/live HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + target.token.encode() + b"\r\n\r\n", 150),
        "generated requests": lambda: generated(target, until_s),
        "made-up requests": lambda: [ask(url, random.choice(["GET", "POST", "PUT", "DELETE"]), _path(), {}, os.urandom(50)) for _ in range(50)],
    }  # fmt: skip


def _path() -> str:
    parts = random.choices(
        [
            "api",
            "issues",
            "1",
            "apps",
            "%00",
            "..",
            "reports",
            "v1",
            "\xff",
            "a" * 300,
            "?window=",
            "&start=0001-01-01",
        ],
        k=4,
    )
    return "/" + "/".join(parts)


def generated(target: Target, until_s: float) -> str:
    """Make requests from a part of the API's own description, right ones and wrong ones; say when one ends in a server error.

    What takes the honest sender's app or key away is left out: names are learnt from the answers.
    """
    description = target.folder / "openapi.json"
    if not description.exists():
        headers = {"Authorization": f"Bearer {target.token}"}
        with written_aside(
            description, urllib3.request("GET", target.url + "/api/openapi.json", headers=headers).data
        ) as made:
            made.replace(description)
    paths = [path for path in json.loads(description.read_bytes())["paths"] if not _LEFT_OUT.match(path)]
    words = [
        str(Path(sys.executable).parent / "schemathesis"), "run", str(description), "--url", target.url,
        "--checks", "not_a_server_error", "--phases", "fuzzing", "-n", "3", "--seed", str(random.randrange(10**6)),
        "-H", f"Authorization: Bearer {target.token}", "--no-color", "--continue-on-failure", "--request-timeout", "20",
        *(word for path in random.sample(paths, PATHS_AT_ONCE) for word in ("--include-path", path)),
    ]  # fmt: skip
    # It ends with the attack: what is left of it is given up, and what it found by then counts.
    rest_s = max(0.5, until_s - time.time())
    try:
        said = subprocess.run(words, capture_output=True, timeout=rest_s, cwd=target.folder).stdout
    except subprocess.TimeoutExpired as late:
        said = late.stdout or b""
    return "broken" if b"Server error" in said else ""
