"""The floor of intake: an endpoint that commits the raw lines to SQLite before it answers, and nothing else."""

from __future__ import annotations

import re
import sqlite3
import subprocess
import sys
import threading
import time
from typing import Any

import urllib3
import uvicorn

from obitus.service.run import listen


def main(path: str) -> None:
    """Serve ``POST /reports``: split into lines, insert, commit durably, answer."""
    records = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
    records.execute("PRAGMA journal_mode = WAL")
    records.execute("PRAGMA synchronous = FULL")
    records.execute("CREATE TABLE lines (body BLOB)")
    lock = threading.Lock()

    def keep(body: bytes) -> None:
        with lock:
            records.execute("BEGIN")
            records.executemany("INSERT INTO lines VALUES (?)", ((line,) for line in body.split(b"\n")))
            records.execute("COMMIT")

    async def app(scope: Any, receive: Any, send: Any) -> None:
        import asyncio

        if scope["type"] != "http":
            return
        body, more = bytearray(), scope["method"] == "POST"
        while more:
            message = await receive()
            body += message.get("body", b"")
            more = message.get("more_body", False)
        if body:
            await asyncio.to_thread(keep, bytes(body))
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
        await send({"type": "http.response.body", "body": b"{}"})

    opened = listen("127.0.0.1", 0)
    print(f"at http://127.0.0.1:{opened.getsockname()[1]}", flush=True)
    uvicorn.Server(uvicorn.Config(app, log_level="error", access_log=False, lifespan="off")).run(sockets=[opened])


def started(command: list[str]) -> tuple[subprocess.Popen[str], int]:
    """Start a server that prints its address; return it and its port once it answers."""
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    assert process.stdout is not None
    port = 0
    for line in process.stdout:
        found = re.search(r"http://127\.0\.0\.1:(\d+)", line)
        if found:
            port = int(found[1])
            break
    for _ in range(200):
        try:
            urllib3.request("GET", f"http://127.0.0.1:{port}/health", retries=False)
            return process, port
        except urllib3.exceptions.HTTPError:
            time.sleep(0.05)
    raise SystemExit("a server of the benchmark did not start")


def key_of(service: subprocess.Popen[str], port: int) -> str:
    """Sign in with the printed link and return the key of a new app."""
    assert service.stdout is not None
    link = next(found[1] for line in service.stdout if (found := re.search(r"#(\S+)", line)))
    base = f"http://127.0.0.1:{port}"
    answer = urllib3.request("POST", f"{base}/api/sign-in", json={"link": link, "token_label": "bench"}).json()
    headers = {"Authorization": f"Bearer {answer['token']}"}
    return str(urllib3.request("POST", f"{base}/api/apps", json={"name": "sailings"}, headers=headers).json()["key"])


if __name__ == "__main__":
    main(sys.argv[1])
