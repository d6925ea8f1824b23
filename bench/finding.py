"""How fast a failure finds its issue, a failure gets its fingerprint, and files are read."""

from __future__ import annotations

import json
import random
import sqlite3
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from bench.measuring import in_turns, row, timed
from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.recipe import Fingerprint, Part, fingerprint
from obitus.service.intake.chains import chain_of
from obitus.store.grouping import Decided, FoundIssue, add_fingerprint, find
from obitus.store.migrations import open_for_writing

FEW, MANY = 100, 100_000
LINES = 3_000_000
TRACE = """skerry.GangwayUp: gangway {i} is up
\tat skerry.Gangway.cross(Gangway.java:41)
\tat skerry.Gate.open(Gate.java:88)
Caused by: java.lang.NullPointerException: tide
\tat skerry.Gangway.slope(Gangway.java:57)
\t... 2 more
"""


def measure(folder: Path, report: bytes) -> None:
    """Print the rows."""
    text = report.decode()
    chain = chain_of(json.loads(report))
    ours, floor = in_turns(
        lambda: timed(lambda: fingerprint(chain).text, 2000), lambda: timed(lambda: json.loads(text), 2000)
    )
    row(
        "fingerprint of 30 frames / json.loads of the report",
        f"{ours * 1e6:.0f} us",
        f"{floor * 1e6:.0f} us",
        ours / floor,
    )
    small, large = _store(folder / "few.sqlite3", FEW), _store(folder / "many.sqlite3", MANY)
    for name, line, beyond in (("known", 10, 0), ("moved by a line", 11, 0), ("new", 10, 10**7)):
        ours, floor = _found((large, MANY), (small, FEW), line, beyond)
        row(
            f"issue of a failure, {name}: {MANY:,} issues / {FEW}",
            f"{ours * 1e6:.0f} us",
            f"{floor * 1e6:.0f} us",
            ours / floor,
        )
    small.close()
    large.close()
    _read(folder / "gate.log", _log_lines(5000), LINES)
    _read(folder / "failing.log", _log_lines(500), LINES)
    _read(folder / "json.log", _json_lines(), LINES // 3)
    _read(folder / "access.log", _access_lines(), LINES)
    _read(folder / "extended.log", _extended_lines(), LINES)


def _chain(number: int, line: int) -> list[ChainLink]:
    place = Frame(f"go_{number % 977}_{number // 977:x}z", f"fares{number % 50}", f"/srv/fares{number % 50}.py", line)
    return [ChainLink("KeyError", f"no thing {number} here", [Frame("main", "app", "/srv/app.py", 90), place])]


class _Further:
    """What is asked of a failure whose fingerprint is new."""

    def __init__(self, made: Fingerprint) -> None:
        self._made = made

    def parts(self) -> Sequence[Part]:
        return self._made.parts

    def earlier(self) -> list[str]:
        return []

    def value_of(self, name: str) -> str:
        return name


def _decided(number: int, line: int) -> Decided:
    made = fingerprint(_chain(number, line))
    return Decided(made.text, made.traits, _Further(made))


def _store(path: Path, issues: int) -> sqlite3.Connection:
    connection = open_for_writing(path)
    connection.execute("PRAGMA foreign_keys = OFF")
    connection.execute("INSERT INTO apps (id, name, kind, created_ms) VALUES (1, 'sailings', 'script', 0)")
    connection.execute("BEGIN")
    for number in range(issues):
        decided = _decided(number, 10)
        add_fingerprint(connection, 1, number + 1, decided, FoundIssue(None, decided.fingerprint, known=False))
    connection.execute("COMMIT")
    return connection


def _found(
    large: tuple[sqlite3.Connection, int], small: tuple[sqlite3.Connection, int], line: int, beyond: int
) -> tuple[float, float]:
    """Return seconds from a fingerprint to its issue in two stores; the medians of several rounds, taken in turn."""
    draw = random.Random(1871)
    rounds: tuple[list[float], list[float]] = ([], [])
    for _ in range(25):
        for taken, (connection, issues) in zip(rounds, (large, small), strict=True):
            asked = [_decided(beyond + draw.randrange(beyond or issues), line) for _ in range(200)]
            connection.execute("BEGIN")
            started = time.perf_counter()
            for decided in asked:
                find(connection, 1, decided, 0)
            taken.append((time.perf_counter() - started) / len(asked))
            connection.execute("ROLLBACK")
    return statistics.median(rounds[0]), statistics.median(rounds[1])


def _read(path: Path, lines: Callable[[int], str], times: int) -> None:
    with path.open("w") as out:
        for number in range(times):
            out.write(lines(number))
    command = [sys.executable, "-m", "obitus", "read", "--dry-run", "--json", str(path)]
    ours, floor = [], []
    for _ in range(3):
        started = time.perf_counter()
        subprocess.run(command, check=True, capture_output=True)
        ours.append(time.perf_counter() - started)
        started = time.perf_counter()
        with path.open() as opened:
            for _line in opened:
                pass
        floor.append(time.perf_counter() - started)
    size, here, there = path.stat().st_size / 1e6, statistics.median(ours), statistics.median(floor)
    row(
        f"obitus read, {path.name} of {size:.0f} MB / lines iterated",
        f"{size / here:,.0f} MB/s",
        f"{size / there:,.0f} MB/s",
        there / here,
    )
    path.unlink()


def _log_lines(every: int) -> Callable[[int], str]:
    def line(i: int) -> str:
        at = f"2026-11-{1 + i // 300_000:02d} {i // 12_500 % 24:02d}:{i // 60 % 60:02d}:{i % 60:02d},123"
        said = f"{at} INFO  [gate-{i % 8}] skerry.Gate - passenger p-{i} boarded vessel Tern at berth {i % 40}\n"
        return said + (
            f"{at} ERROR [gate-{i % 8}] skerry.Gate - not let through\n{TRACE.format(i=i)}" if i % every == 0 else ""
        )

    return line


PATHS = ("/sailings", "/sailings/SK-{}/boardings", "/fares/{}", "/static/board.js", "/tides/now")


def _access_lines() -> Callable[[int], str]:
    draw = random.Random(3)

    def line(i: int) -> str:
        path = PATHS[i % 5].format(draw.randrange(5000))
        return (
            f"10.0.{i % 9}.{i % 250} - - [{1 + i // 300_000:02d}/Nov/2026:{i // 12_500 % 24:02d}:{i // 60 % 60:02d}:{i % 60:02d} +0000] "
            f'"GET {path}?n={i} HTTP/1.1" {_status(i)} {i % 9000} "-" "Mozilla/5.0 (X11; Linux x86_64)"\n'
        )

    return line


def _json_lines() -> Callable[[int], str]:
    def line(i: int) -> str:
        at = f"2026-11-{1 + i // 300_000:02d}T{i // 12_500 % 24:02d}:{i // 60 % 60:02d}:{i % 60:02d}Z"
        said = {"time": at, "level": "info", "logger": "skerry.Gate", "message": f"passenger p-{i} boarded vessel Tern"}
        if i % 1000 == 0:
            said |= {"level": "error", "message": "not let through", "exception": TRACE.format(i=i)}
        return json.dumps(said) + "\n"

    return line


FIELDS = "date time s-ip cs-method cs-uri-stem cs-uri-query s-port cs-username c-ip cs(User-Agent) sc-status sc-substatus sc-win32-status time-taken"


def _extended_lines() -> Callable[[int], str]:
    draw = random.Random(4)

    def line(i: int) -> str:
        path = PATHS[i % 5].format(draw.randrange(5000))
        said = (
            f"2026-11-{1 + i // 300_000:02d} {i // 12_500 % 24:02d}:{i // 60 % 60:02d}:{i % 60:02d} 10.0.0.4 GET {path} n={i} 443 - "
            f"10.0.{i % 9}.{i % 250} Mozilla/5.0+(X11;+Linux+x86_64) {_status(i)} 0 0 {i % 900}\n"
        )
        return f"#Version: 1.0\n#Fields: {FIELDS}\n{said}" if i == 0 else said

    return line


def _status(i: int) -> int:
    return 404 if i % 41 == 0 else 503 if i % 97 == 0 else 304 if i % 13 == 0 else 200
