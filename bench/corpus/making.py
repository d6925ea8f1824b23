"""Making the corpus: each app is run with one fault in it at a time, along many paths, and what comes out is kept.

A record is what the trade's logs hold: ``exception.type``, ``exception.message``, ``exception.stacktrace``; its label is
the fault that was planted. A fault lies in the app's own code, in a library that the app uses, or in the values that one
of several callers hands to the same library call. Every fault is met in two releases, the second with lines, functions
and helpers moved.
"""

from __future__ import annotations

import importlib.util
import json
import os
import random
import shutil
import signal
import sys
import tempfile
import traceback
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bench.corpus.captured import captured
from bench.corpus.planting import Fault, moved, planted, possible, split_module

APPS = Path(__file__).parent / "apps"
TUNING = ("sqlparse", "tomlkit", "dateutil", "jinja2", "sortedcontainers")
TEST = ("markdown_it", "packaging", "itsdangerous", "parso", "graphql", "yaml", "h11", "pygments")
SEEDS = 2
FAULTS_OF_ONE_PLACE = 12
TRIES = 60
MOST_RECORDS = 14
TIMEOUT_S = 10


@dataclass(frozen=True)
class Record:
    """One failure of the corpus."""

    app: str
    label: str
    kind: str
    release: int
    type: str
    message: str
    stacktrace: str
    exceptions: list[dict[str, Any]]
    """The same as the client reports it."""


def records(app: str, seed: int = 7) -> list[Record]:
    """Make all records of one app, shuffled as failures come; the same every time."""
    found: list[Record] = []
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        for place in ("own", "library", "copied"):
            found += _faults_in(app, place, work / place, seed)
        found += _misuses(app, work / "misuse")
    random.Random(seed).shuffle(found)
    return found


class _Layout:
    """One installation of an app: its own folder, and the library where libraries lie, or in the app's folder."""

    def __init__(self, root: Path, app: str, *, copied: bool) -> None:
        self.app = app
        self.own = root / "srv" / f"{app}-desk"
        self.installed = root / "srv" / "venv" / "lib" / "python3.11" / "site-packages"
        self.own.mkdir(parents=True)
        self.installed.mkdir(parents=True)
        shutil.copy(APPS / "desk.py", self.own)
        shutil.copy(APPS / f"{app}_app.py", self.own)
        spec = importlib.util.find_spec(app)
        assert spec is not None and spec.origin is not None
        self.library = (self.own if copied else self.installed) / app
        shutil.copytree(
            Path(spec.origin).parent, self.library, ignore=shutil.ignore_patterns("__pycache__", "*.so", "*.pyi")
        )

    @property
    def module(self) -> Path:
        """The app's own module."""
        return self.own / f"{self.app}_app.py"

    def run(self, misuse: str | None = None, trace: Path | None = None) -> Any:
        """Run every entry along every way in a child; return what came out (or, tracing, which lines of a folder ran)."""
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            status = 1
            try:
                result = _drive(self, misuse, trace)
                # What was made in time is written whole, however slow the machine is.
                signal.alarm(0)
                with os.fdopen(writing, "w") as out:
                    json.dump(result, out)
                status = 0
            finally:
                os._exit(status)
        os.close(writing)
        with os.fdopen(reading) as given:
            text = given.read()
        os.waitpid(child, 0)
        return json.loads(text) if text else None


def _drive(layout: _Layout, misuse: str | None, trace: Path | None) -> Any:
    signal.alarm(TIMEOUT_S)
    sys.dont_write_bytecode = True
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    for name in [n for n in sys.modules if n == layout.app or n.startswith(layout.app + ".")]:
        del sys.modules[name]
    sys.path[:0] = [str(layout.own), str(layout.installed)]
    ran: dict[str, set[int]] = defaultdict(set)
    out: list[list[Any]] = []

    def watch(frame: Any, event: str, _: Any) -> Any:
        if not frame.f_code.co_filename.startswith(str(trace)):
            return None
        ran[frame.f_code.co_filename].add(frame.f_lineno)
        return watch

    try:
        desk = importlib.import_module("desk")
        module = importlib.import_module(f"{layout.app}_app")
    except Exception:
        return None
    if trace is not None:
        sys.settrace(watch)
    entries = module.ENTRIES if misuse is None else [getattr(module, misuse)]
    for entry in entries:
        for way in desk.WAYS:
            for seed in range(SEEDS if misuse is None else 2 * SEEDS):
                try:
                    _start(way, entry, random.Random(seed))
                except Exception as error:
                    out.append(
                        [
                            f"{entry.__name__} {way.__name__} {seed}",
                            type(error).__qualname__,
                            str(error),
                            traceback.format_exc(),
                            captured(error),
                        ]
                    )
    sys.settrace(None)
    return {name: sorted(lines) for name, lines in ran.items()} if trace is not None else out


def _start(way: Any, entry: Any, draw: random.Random) -> None:
    way(entry, draw)


def _faults_in(app: str, place: str, root: Path, seed: int) -> Iterator[Record]:
    first = _Layout(root / "1", app, copied=place == "copied")
    second = _Layout(root / "2", app, copied=place == "copied")
    _move(second)
    folder = first.own if place == "own" else first.library
    lines = first.run(trace=folder)
    if not lines or first.run() or second.run():
        raise RuntimeError(f"{app} fails with no fault in it ({place}): {(lines and 'moved') or first.run()}")
    draw = random.Random(f"{app} {place} {seed}")
    chances: list[tuple[Path, Fault]] = []
    for name, ran in sorted(lines.items()):
        path = Path(name)
        if path.name not in ("desk.py", "__init__.py") and (place == "own") == (path.name == first.module.name):
            chances += [(path, fault) for fault in possible(path.read_text("utf-8"), set(ran))]
    draw.shuffle(chances)
    made = 0
    functions: set[tuple[Path, str, int]] = set()
    for path, fault in chances[:TRIES]:
        if made >= FAULTS_OF_ONE_PLACE:
            return
        if (path, fault.function, fault.line) in functions:
            continue
        found = _with_fault(first, second, path, fault, place)
        if found:
            functions.add((path, fault.function, fault.line))
            made += 1
            draw.shuffle(found)
            yield from found[:MOST_RECORDS]


def _with_fault(first: _Layout, second: _Layout, path: Path, fault: Fault, place: str) -> list[Record]:
    label = f"{place}: {fault.kind} in {path.name} {fault.function}:{fault.line}"
    found: list[Record] = []
    source = path.read_text("utf-8")
    try:
        broken = planted(source, fault)
        compile(broken, str(path), "exec", dont_inherit=True)
    except (SyntaxError, LookupError, ValueError):
        return []
    for number, layout in enumerate((first, second), 1):
        target = layout.own / path.relative_to(first.own) if path.is_relative_to(first.own) else layout.installed / path.relative_to(first.installed)  # fmt: skip
        was = target.read_text("utf-8")
        beside = layout.own / "parts.py"
        parts = beside.read_text("utf-8") if beside.exists() else None
        text = broken if number == 1 else _moved_text(broken, target, layout)
        if text is None:
            return []
        target.write_text(text, "utf-8")
        outcomes = layout.run()
        target.write_text(was, "utf-8")
        if parts is not None:
            beside.write_text(parts, "utf-8")
        if not outcomes:
            return []
        found += [Record(layout.app, label, place, number, *outcome[1:]) for outcome in outcomes]
    return found if len(found) >= 4 else []


def _move(layout: _Layout) -> None:
    for path in sorted(layout.own.rglob("*.py")) + sorted(layout.installed.rglob("*.py")):
        if path.name not in ("desk.py", "__init__.py", "parts.py"):
            text = _moved_text(path.read_text("utf-8"), path, layout)
            if text is not None:
                path.write_text(text, "utf-8")


def _moved_text(source: str, path: Path, layout: _Layout) -> str | None:
    try:
        if path == layout.module:
            kept, parts = split_module(moved(source, 3), "parts")
            (layout.own / "parts.py").write_text(parts, "utf-8")
            return kept
        return moved(source, 3)
    except (SyntaxError, ValueError):
        return None


def _misuses(app: str, root: Path) -> Iterator[Record]:
    first = _Layout(root / "1", app, copied=False)
    second = _Layout(root / "2", app, copied=False)
    names = _names_of(first.module)
    _move(second)
    for name in names:
        for number, layout in enumerate((first, second), 1):
            for outcome in layout.run(misuse=name) or ():
                yield Record(app, f"misuse: {name}", "misuse", number, *outcome[1:])


def _names_of(path: Path) -> list[str]:
    text = path.read_text("utf-8")
    listed = text[text.rindex("MISUSES = [") + len("MISUSES = [") : text.rindex("]")]
    return [name.strip() for name in listed.split(",") if name.strip()]
