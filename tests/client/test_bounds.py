"""What the client makes of anything, however long or many, is a report that the service takes: one table of bounds holds for both."""

from __future__ import annotations

import ast
import json
from pathlib import Path
from typing import Any

import pytest

import obitus
from obitus.client.reporter import Reporter
from obitus.client.scope import RunScope
from obitus.client.settings import load
from obitus.core import bounds
from obitus.service.intake.formats import REPORT

SOURCES = Path(obitus.__file__).parent
HUGE = "tide " * 40_000


class Sink:
    """Takes reports in the place of the sender."""

    full = False
    is_awake = True
    waiting = 0

    def __init__(self) -> None:
        self.reports: list[dict[str, Any]] = []
        self.dropped: dict[str, int] = {}

    def put(self, report: dict[str, Any]) -> bool:
        self.reports.append(report)
        return True

    keep = put

    def put_down(self, report: dict[str, Any], *, held: bool = False) -> None:
        return None

    def wake(self) -> None:
        pass


@pytest.fixture
def reporter() -> Reporter:
    settings = load(url="http://127.0.0.1:9", key="okey_x", release=HUGE, environment="production", spool_bytes=0)
    made = Reporter(settings, hooks=False, keeps=False)
    made.base.sender.close()
    made.base.sender = made.base.held._sender = Sink()  # type: ignore[assignment]
    return made


class Tide(Exception):
    pass


Tide.__qualname__ = Tide.__name__ = "Tide" + "x" * 5_000


def deep(levels: int, **values: Any) -> None:
    locals_ = {f"name{i}{'n' * 400}": HUGE for i in range(400)}
    if levels:
        deep(levels - 1, **values)
    error = Tide(HUGE)
    for _ in range(80):
        error.add_note(HUGE)
    raise error from ValueError(HUGE, locals_)


def test_whatever_is_captured_is_taken(reporter: Reporter) -> None:
    """Long types, messages, notes and names, many frames, members, steps and attributes, of a failure, a log record, a run and a tally."""
    scope = RunScope(reporter, HUGE, "run")
    many = {f"{number}{HUGE}": HUGE for number in range(200)}
    for number in range(600):
        reporter.runs.breadcrumb("mark", HUGE, "INFO", many)
        reporter.runs.attach({f"{number}{HUGE}": HUGE})
    scope.run.request = {"method": "GET", "url": bounds.kept(HUGE)}
    for depth in (3, 900):
        try:
            deep(depth)
        except Tide as error:
            group = ExceptionGroup(HUGE, [error, *(ExceptionGroup("g", [ValueError(HUGE)]) for _ in range(100))])
            scope.record(error)
            reporter.failures.record(group, handled=False, captured_by="run")
    reporter.failures.say(HUGE, "ERROR", {HUGE: HUGE}, __import__("sys")._getframe())
    reporter.runs.log_record(HUGE, "WARN", HUGE, {f"{n}{HUGE}": HUGE for n in range(500)}, template=HUGE + "%s")
    scope.finish("failed")
    reporter.runs.send_tallies()
    reporter.base.held.release()
    made = reporter.base.sender.reports  # type: ignore[attr-defined]
    assert {report["kind"] for report in made} == {"failure", "log", "run", "tally"} and len(made) >= 6
    from obitus.client.trail import finish_trail

    for report in made:
        report.pop("dropped", None)
        if "trail" in report:
            finish_trail(report)
        # Raises where a bound is broken.
        REPORT.validate_json(json.dumps(report))


def test_no_bound_is_written_twice() -> None:
    """Whoever makes reports takes their bounds from the table, and not from memory."""
    rooms = (
        "client",
        "reading",
        "core/log_files",
        "core/telemetry",
        "core/stacks/__init__.py",
        "core/entry_points.py",
    )
    table = {value for name, value in vars(bounds).items() if name.isupper() and isinstance(value, int)} - {
        20,
        50,
        100,
        200,
    }
    found = []
    for room in rooms:
        place = SOURCES / room
        for path in sorted(place.rglob("*.py")) if place.is_dir() else [place]:
            for node in ast.walk(ast.parse(path.read_text())):
                upper = (
                    node.slice.upper if isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Slice) else None
                )
                if isinstance(upper, ast.Constant) and upper.value in table:
                    found.append(f"{path.relative_to(SOURCES)}:{node.lineno}")
    assert found == []
