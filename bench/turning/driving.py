"""Drives one application in a process of its own, watched by the client: ``python driving.py APP FOLDER``, with OBITUS_URL and OBITUS_KEY.

Each line that it prints names one request: its number, its entry point, and what was planted in it. The request carries the number, so
that its run is found again. What is planted happens where the database's driver is called: nothing of the application is changed.
"""

from __future__ import annotations

import asyncio
import json
import logging
import random
import sqlite3
import sys
import time
from pathlib import Path
from typing import Any

import obitus
from obitus.client import tally
from obitus.client.instruments import databases, sqlites
from obitus.core.against.steps import steps_of
from obitus.core.statements import shape

REQUESTS, WARM_UP, HEALTHY, NOTHING, PLANTS_OF_ONE = 3, 8, 40, 40, 2
"""Kinds of requests of an application; of each so many before anything counts, healthy ones, ones with nothing planted; and with each fault."""
SLOW_MS = 120
KINDS = ("missing", "added", "otherwise", "slower")
plant: tuple[str, str] | None = None
"""What is planted in the request that is answered now: kind, and the step that the statement is."""


def key_of(statement: str) -> str:
    """Return the step that a statement is, as runs are compared by."""
    (step,) = steps_of([{"kind": "statement", "attributes": {"db.query.text": shape(statement)}}])
    return step.key


def install() -> None:
    """Have each run sent whole, and plant faults in statements."""
    tally._judge = lambda *_: "healthy, to compare failing ones with"
    original = sqlites.SqliteCursor.execute

    def execute(self: Any, statement: str, *args: Any) -> Any:
        global plant
        if plant is None or key_of(statement) != plant[1]:
            return original(self, statement, *args)
        (kind, _), plant = plant, None
        connection = self.connection
        if kind == "added":
            connection.execute("SELECT 'abandoned' WHERE 1 = 2")
        elif kind == "slower":
            ends = time.monotonic() + SLOW_MS / 1000
            connection.set_progress_handler(lambda: wait_until(ends), 1)
            try:
                return original(self, statement, *args)
            finally:
                connection.set_progress_handler(None, 1)
        elif kind == "otherwise":
            connection.set_authorizer(lambda *_: sqlite3.SQLITE_DENY)
            try:
                original(self, statement, *args)
            except sqlite3.Error:
                logging.getLogger("planted").debug("as it should")
            finally:
                connection.set_authorizer(None)
        if kind in ("missing", "otherwise"):
            # What it answers is there all the same: a memory answered, or it was tried again.
            with databases.quiet():
                return original(self, statement, *args)
        return original(self, statement, *args)

    sqlites.SqliteCursor.execute = execute  # type: ignore[method-assign]


def wait_until(moment_s: float) -> int:
    """Sleep until then; 0 has SQLite go on."""
    time.sleep(max(0.0, moment_s - time.monotonic()))
    return 0


def isso(folder: Path) -> tuple[Any, list[Any]]:
    """Comments on pages: a WSGI application over SQLite."""
    from isso import config, make_app
    from werkzeug.test import Client
    from werkzeug.wrappers import Response

    text = f"[general]\ndbpath = {folder / 'comments.db'}\nhost = http://localhost/\n[guard]\nenabled = true\nratelimit = 100000\ndirect-reply = 100000\nreply-to-self = true\n"
    (folder / "isso.cfg").write_text(text)
    found = config.load(config.default_file(), str(folder / "isso.cfg"))
    app = obitus.WsgiMiddleware(make_app(found, threading=True, multiprocessing=False, uwsgi=False))
    client = Client(app, Response)

    def ask(method: str, path: str, number: int, **more: Any) -> None:
        headers = {
            "X-Number": str(number),
            "Origin": "http://localhost",
            "X-Forwarded-For": f"10.0.{number % 200}.{number % 250}",
        }
        with client.open(path, method=method, headers=headers, **more) as answer:
            answer.get_data()

    def write(dice: random.Random, number: int) -> None:
        ask("POST", f"/new?uri=/page-{dice.randrange(4)}/", number, json={"text": f"the ferry was late, {dice.random()}", "author": "Ida Moss", "title": "Timetable"})  # fmt: skip

    def read(dice: random.Random, number: int) -> None:
        ask("GET", f"/?uri=/page-{dice.randrange(4)}/&limit={dice.randrange(2, 9)}", number)

    def latest(dice: random.Random, number: int) -> None:
        ask("POST", "/count", number, json=[f"/page-{dice.randrange(4)}/"])

    return app, [write, read, latest]


def datasette(folder: Path) -> tuple[Any, list[Any]]:
    """Tables as pages: an ASGI application over SQLite, which asks its database on threads."""
    import httpx
    from datasette.app import Datasette

    path = folder / "line.db"
    with sqlite3.connect(path) as made:
        made.executescript("CREATE TABLE piers (id INTEGER PRIMARY KEY, name TEXT); CREATE TABLE sailings (id INTEGER PRIMARY KEY, pier INTEGER REFERENCES piers(id), vessel TEXT)")  # fmt: skip
        made.executemany("INSERT INTO piers VALUES (?, ?)", [(n, f"pier {n}") for n in range(40)])
        made.executemany("INSERT INTO sailings VALUES (?, ?, ?)", [(n, n % 40, f"Tern {n % 7}") for n in range(900)])
    app = obitus.AsgiMiddleware(Datasette([str(path)], settings={"num_sql_threads": 1}).app())
    client = httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://line.example")
    loop = asyncio.new_event_loop()

    def ask(path: str, number: int) -> None:
        loop.run_until_complete(client.get(path, headers={"X-Number": str(number)}))

    def table(dice: random.Random, number: int) -> None:
        ask(f"/line/sailings?_size={dice.randrange(5, 60)}&pier={dice.randrange(40)}", number)

    def row(dice: random.Random, number: int) -> None:
        ask(f"/line/sailings/{dice.randrange(900)}", number)

    def home(dice: random.Random, number: int) -> None:
        ask("/line", number)

    return app, [table, row, home]


def main() -> None:
    """Healthy requests, then requests with one thing planted, then as many with nothing."""
    global plant
    install()
    obitus.watch(failures_per_second=1e6)
    _, requests = {"isso": isso, "datasette": datasette}[sys.argv[1]](Path(sys.argv[2]))
    dice, number = random.Random(7), 0

    def tell(point: int, kind: str, key: str) -> None:
        print(json.dumps({"number": number, "request": point, "kind": kind, "key": key}), flush=True)

    for point, request in enumerate(requests):
        for kind, times in (("warm-up", WARM_UP), ("healthy", HEALTHY), ("nothing", NOTHING)):
            for _ in range(times):
                number += 1
                request(dice, number)
                tell(point, kind, "")
    for line in sys.stdin:
        wanted = json.loads(line)
        for _ in range(PLANTS_OF_ONE):
            number += 1
            plant = (wanted["kind"], wanted["key"])
            requests[wanted["request"]](dice, number)
            tell(wanted["request"], wanted["kind"] if plant is None else "not met", wanted["key"])
            plant = None
        if wanted.get("last"):
            break
    obitus.flush(30)
    print(json.dumps({"number": 0, "request": 0, "kind": "done", "key": ""}), flush=True)


if __name__ == "__main__":
    main()
