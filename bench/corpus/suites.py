"""Applications and packages under their own tests: their code is the own code, and each test is one way to a fault.

The packages are installed beside the project (``requirements/suites.txt``), copied to where an app would lie, and get one
fault at a time; the tests that reach its line are run, in two releases, and what breaks inside of the package is kept.
Faults lie in the package's own code, in a library that it uses, or in the values that callers of one function hand over.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import traceback
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest

from bench.corpus.captured import captured
from bench.corpus.making import MOST_RECORDS, Record
from bench.corpus.planting import HANDED, KINDS, Fault, functions_of, moved, planted, possible

ROOT = Path(__file__).parents[2]
SITE = ROOT / "build" / "suites" / "lib" / "python3.11" / "site-packages"
PINNED = ROOT / "requirements" / "suites.txt"

LIBRARIES = {
    "pelican": "docutils",
    "icalendar": "dateutil",
    "pyflakes": "",
    "beancount": "dateutil",
    "sqlobject": "formencode",
    "networkx": "",
}
"""By package: a library that faults are planted in too; '' for none."""
TUNING = ("pelican", "icalendar", "pyflakes", "sqlobject")
TEST = ("beancount", "networkx")

FAULTS = {"app": 30, "under it": 10, "handed": 16}
TRIES = 90
TESTS_TRACED = 400
TESTS_OF_ONE_FAULT = 12
SLOW_S = 1.0
TIMEOUT_S, FAULT_TIMEOUT_S = 400, 8
OPTIONS = ["-q", "-p", "no:cacheprovider", "--continue-on-collection-errors", "-o", "python_files=test_*.py *_test.py", "--ignore-glob=*benchmark*", "--ignore-glob=*_plugin.py"]  # fmt: skip


def installed() -> Path:
    """Install the pinned packages beside the project when they are not there, and return their folder."""
    mark = SITE / f"ready-{PINNED.stat().st_size}"
    if not mark.exists():
        shutil.rmtree(SITE, ignore_errors=True)
        SITE.mkdir(parents=True)
        command = [sys.executable, "-m", "pip", "install", "-qq", "--disable-pip-version-check", "--require-hashes"]
        subprocess.run([*command, "--target", str(SITE), "-r", str(PINNED)], check=True, capture_output=True)
        mark.touch()
    return SITE


def records(app: str, seed: int = 7) -> list[Record]:
    """Make all records of one package, shuffled as failures come; the same every time."""
    installed()
    found: list[Record] = []
    with tempfile.TemporaryDirectory() as folder:
        releases = [_Layout(Path(folder) / str(number), app) for number in (1, 2)]
        releases[1].move()
        ways = releases[0].traced(seed)
        if not ways:
            raise TimeoutError(
                f"the tests of {app} took longer than {TIMEOUT_S} s; make the corpus on a machine that is less busy"
            )
        steady = set(ways) - releases[0].failing(ways) - releases[1].failing(ways)
        ways = {test: lines for test, lines in ways.items() if test in steady}
        for place, most in FAULTS.items():
            found += _faults(releases, ways, place, most, seed)
    random.Random(seed).shuffle(found)
    return found


class _Layout:
    """One installation: the package in the app's folder, its libraries where libraries lie."""

    def __init__(self, root: Path, app: str) -> None:
        self.app = app
        self.own = root / "srv" / f"{app}-desk"
        self.libraries = root / "srv" / "venv" / "lib" / "python3.11" / "site-packages"
        self.library = LIBRARIES[app]
        for name, target in ((app, self.own), (self.library, self.libraries)):
            target.mkdir(parents=True)
            if name:
                shutil.copytree(SITE / name, target / name, ignore=shutil.ignore_patterns("__pycache__"))

    def sources(self, place: str) -> list[Path]:
        """Return the files that faults may be planted in: no tests, nothing that only re-exports."""
        folder = self.libraries / self.library if place == "under it" else self.own / self.app
        return [p for p in sorted(folder.rglob("*.py")) if p.name != "__init__.py" and not is_test(p)]

    def move(self) -> None:
        """Move lines and functions of every file about, where the package can still be imported afterwards."""
        for path in [*self.sources("app"), *(self.sources("under it") if self.library else ())]:
            was = path.read_text("utf-8")
            name = ".".join(path.relative_to(self.libraries if path.is_relative_to(self.libraries) else self.own).with_suffix("").parts)  # fmt: skip
            try:
                path.write_text(moved(was, 3), "utf-8")
                imports = self.forked(lambda name=name: bool(__import__(name)))  # type: ignore[misc]
            except (SyntaxError, ValueError):
                imports = None
            if not imports:
                path.write_text(was, "utf-8")

    def forked(self, work: Callable[[], Any], timeout_s: int = TIMEOUT_S) -> Any:
        """Do something in a child that finds the package and its libraries first; None when that failed."""
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            try:
                os.setsid()
                signal.alarm(timeout_s)
                sys.dont_write_bytecode = True
                os.environ["PYTEST_DISABLE_PLUGIN_AUTOLOAD"] = "1"
                nowhere = os.open(os.devnull, os.O_RDWR)
                for descriptor in (0, 1, 2):
                    os.dup2(nowhere, descriptor)
                sys.path[:0] = [str(self.own), str(self.libraries), str(SITE)]
                for name in [n for n in sys.modules if n.partition(".")[0] in (self.app, self.library, "dateutil")]:
                    del sys.modules[name]
                os.chdir(self.own)
                result = work()
                signal.alarm(0)
                text = json.dumps(result)
                with os.fdopen(writing, "w") as out:
                    out.write(text)
            finally:
                os._exit(0)
        os.close(writing)
        with os.fdopen(reading) as given:
            text = given.read()
        os.waitpid(child, 0)
        return json.loads(text) if text else None

    def tested(self, tests: Sequence[str], watcher: _Watcher, timeout_s: int = TIMEOUT_S) -> Any:
        """Run tests of the package, all of them where none is named, and return what the watcher saw."""

        def work() -> dict[str, Any]:
            pytest.main([*OPTIONS, *(tests or [self.app])], plugins=[watcher])
            return watcher.seen

        return self.forked(work, timeout_s)

    def traced(self, seed: int) -> dict[str, dict[str, list[int]]]:
        """Return for some of the tests which lines of which files each runs."""
        folders = [str(self.own / self.app), str(self.libraries)]
        return self.tested((), _Tracer(folders, seed)) or {}

    def failing(self, tests: Sequence[str] | dict[str, Any]) -> set[str]:
        """Return which of some tests fail with no fault planted."""
        failed = self.tested(list(tests), _Failures(str(self.own), everything=True))
        return set(tests if failed is None else failed)


def is_test(path: Path) -> bool:
    """Whether a file belongs to the tests of its package."""
    name = path.name
    return name.startswith(("test", "conftest")) or name.endswith("_test.py") or any(
        part in ("test", "tests", "testsuite", "testing") for part in path.parts
    )  # fmt: skip


class _Watcher:
    """What is seen of a run of tests."""

    def __init__(self) -> None:
        self.seen: dict[str, Any] = {}


class _Tracer(_Watcher):
    """Picks some of the tests, and notes which lines each of the quick ones runs."""

    def __init__(self, folders: list[str], seed: int) -> None:
        super().__init__()
        self.folders = tuple(folders)
        self.draw = random.Random(seed)

    def pytest_collection_modifyitems(self, items: list[Any]) -> None:
        items[:] = self.draw.sample(items, min(TESTS_TRACED, len(items)))

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_call(self, item: Any) -> Iterator[None]:
        ran: dict[str, set[int]] = defaultdict(set)

        def watch(frame: Any, event: str, _: Any) -> Any:
            name = frame.f_code.co_filename
            if not name.startswith(self.folders):
                return None
            ran[name].add(frame.f_lineno)
            return watch

        started = time.monotonic()
        sys.settrace(watch)
        try:
            result = yield
        finally:
            sys.settrace(None)
        if time.monotonic() - started < SLOW_S:
            self.seen[item.nodeid] = {name: sorted(lines) for name, lines in ran.items() if not is_test(Path(name))}
        return result


class _Failures(_Watcher):
    """Keeps the exceptions that came out of the package (or, with ``everything``, whatever failed)."""

    def __init__(self, own: str, *, everything: bool) -> None:
        super().__init__()
        self.own = own
        self.everything = everything

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(self, item: Any, call: Any) -> Iterator[None]:
        result = yield
        # Only now: what a test of the standard library's kind met is put there by another hook.
        self._keep(item, call)
        return result

    def _keep(self, item: Any, call: Any) -> None:
        if call.excinfo is None or call.excinfo.typename in ("Skipped", "XFailed", "Exit"):
            return
        error = call.excinfo.value
        if self.everything:
            self.seen[item.nodeid] = []
        elif isinstance(error, Exception) and self.inside(error):
            text = "".join(traceback.format_exception(error))
            self.seen[item.nodeid] = [type(error).__qualname__, str(error), text, captured(error)]

    def inside(self, error: BaseException) -> bool:
        """Whether it was raised below the package's own code, and is no verdict of a test."""
        files = [frame.filename for frame in traceback.extract_tb(error.__traceback__)]
        if files and "/unittest/" in files[-1]:
            return False
        return next((not is_test(Path(f)) for f in reversed(files) if f.startswith(self.own)), False)


def _faults(releases: list[_Layout], ways: dict[str, Any], place: str, most: int, seed: int) -> Iterator[Record]:
    first = releases[0]
    if place == "under it" and not first.library:
        return
    draw = random.Random(f"{first.app} {place} {seed}")
    ran: dict[str, set[int]] = defaultdict(set)
    for lines in ways.values():
        for name, numbers in lines.items():
            ran[name].update(numbers)
    chances: list[tuple[Path, Fault]] = []
    for path in first.sources(place):
        kinds = HANDED if place == "handed" else KINDS
        chances += [(path, fault) for fault in possible(path.read_text("utf-8"), ran[str(path)], kinds)]
    draw.shuffle(chances)
    if place == "handed":
        defined = {name for path in first.sources("app") for name in functions_of(path.read_text("utf-8"))}
        chances = _of_shared([(path, fault) for path, fault in chances if fault.callee in defined])
    made = 0
    seen: set[tuple[Path, str, int]] = set()
    for path, fault in chances[:TRIES]:
        if made >= most:
            return
        spot = (path, fault.function, fault.line)
        if spot in seen:
            continue
        tests = sorted(test for test, lines in ways.items() if fault.line in lines.get(str(path), ()))
        draw.shuffle(tests)
        found = _with_fault(releases, path, fault, place, tests[:TESTS_OF_ONE_FAULT])
        if len(found) >= 4:
            seen.add(spot)
            made += 1
            draw.shuffle(found)
            yield from found[:MOST_RECORDS]


def _of_shared(chances: list[tuple[Path, Fault]]) -> list[tuple[Path, Fault]]:
    """Return the calls of functions that several lines call, those of one function together."""
    calls: dict[str, list[tuple[Path, Fault]]] = defaultdict(list)
    for path, fault in chances:
        calls[fault.callee].append((path, fault))
    shared = [group for callee, group in calls.items() if callee and len({(p, f.line) for p, f in group}) > 1]
    return [one for group in shared for one in group[:4]]


def _with_fault(releases: list[_Layout], path: Path, fault: Fault, place: str, tests: list[str]) -> list[Record]:
    first = releases[0]
    label = f"{place}: {fault.kind} in {path.name} {fault.function}:{fault.line}"
    base = first.libraries if place == "under it" else first.own
    found: list[Record] = []
    for number, layout in enumerate(releases, 1):
        target = (layout.libraries if place == "under it" else layout.own) / path.relative_to(base)
        was = target.read_text("utf-8")
        try:
            # The second release has the same fault, in the text that was moved about.
            broken = planted(path.read_text("utf-8") if number == 1 else was, fault)
            compile(broken, str(target), "exec", dont_inherit=True)
        except (SyntaxError, LookupError, ValueError):
            return []
        target.write_text(broken, "utf-8")
        try:
            outcomes = layout.tested(tests, _Failures(str(layout.own), everything=False), FAULT_TIMEOUT_S)
        finally:
            target.write_text(was, "utf-8")
        if not outcomes:
            return []
        found += [Record(layout.app, label, place, number, *outcome) for _, outcome in sorted(outcomes.items())]
    return found
