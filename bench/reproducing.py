"""How many failing calls can be made again from what was captured: planted faults in packages under their own tests.

Each fault is planted alone; a test of the package that meets it is run, and the client captures what came out. From that
alone a pytest is written, put beside the package and run, unedited. It counts where it fails with the same exception at the
same line of the same file. ``python -m bench.reproducing [PACKAGE …] [--faults N] [--show]``.
"""

from __future__ import annotations

import argparse
import json
import random
import tempfile
import traceback
from collections import Counter, defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from bench.corpus.planting import KINDS, Fault, planted, possible
from bench.corpus.suites import (
    FAULT_TIMEOUT_S,
    LIBRARIES,
    TESTS_OF_ONE_FAULT,
    _Failures,
    _Layout,
    _Watcher,
    installed,
    is_test,
)
from obitus.client.capture import Capture
from obitus.core.redaction import Redactor
from obitus.core.reproducing.call import About, NoCall, as_test

SEED = 11
MOST_TRIES = 6
"""Faults that are tried for each that is met."""


class _Captured(_Watcher):
    """Keeps what the client captures of the first failure that came out of the package."""

    def __init__(self, app: str, own: str) -> None:
        super().__init__()
        self.capture = Capture(Redactor(), (app,))
        self.inside = _Failures(own, everything=False).inside

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(self, item: Any, call: Any) -> Iterator[None]:
        result = yield
        if call.excinfo is None or call.excinfo.typename in ("Skipped", "XFailed", "Exit") or "chain" in self.seen:
            return result
        error = call.excinfo.value
        if isinstance(error, Exception) and self.inside(error):
            self.seen["chain"] = self.capture.chain(error)
        return result


class _Outcome(_Watcher):
    """Keeps what a written test ended with, and where."""

    def __init__(self, own: str) -> None:
        super().__init__()
        self.own = own

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(self, item: Any, call: Any) -> Iterator[None]:
        result = yield
        if call.when == "call":
            self.seen["ran"] = True
        if call.excinfo is not None:
            error = call.excinfo.value
            places = [
                [frame.filename, frame.lineno]
                for frame in traceback.extract_tb(error.__traceback__)
                if frame.filename.startswith(self.own) and not is_test(Path(frame.filename))
            ]
            self.seen |= {"type": _type_name(type(error)), "message": str(error)[:200], "place": places[-1] if places else None}  # fmt: skip
        return result

    def pytest_collectreport(self, report: Any) -> None:
        if report.failed:
            self.seen["collected"] = str(report.longrepr)[-300:]


def _type_name(kind: type) -> str:
    return f"{kind.__module__}.{kind.__qualname__}".removeprefix("builtins.")


def measure(app: str, most: int, *, show: bool) -> Counter[str]:
    """Plant faults in a package; return how many issues there were, how many could be called, and how many failed the same."""
    installed()
    counts: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        layout = _Layout(Path(folder), app)
        ways = layout.traced(SEED)
        steady = set(ways) - layout.failing(ways)
        ran: dict[str, set[int]] = defaultdict(set)
        for test in steady:
            for name, numbers in ways[test].items():
                ran[name].update(numbers)
        chances = [
            (path, fault)
            for path in layout.sources("app")
            for fault in possible(path.read_text("utf-8"), ran[str(path)], KINDS)
        ]
        draw = random.Random(f"{app} {SEED}")
        draw.shuffle(chances)
        seen: set[tuple[str, Any]] = set()
        for path, fault in chances[: most * MOST_TRIES]:
            if counts["issues"] >= most:
                break
            tests = sorted(test for test in steady if fault.line in ways[test].get(str(path), ()))
            draw.shuffle(tests)
            _one(layout, path, fault, tests[:TESTS_OF_ONE_FAULT], counts, seen, show=show)
    return counts


def _one(
    layout: _Layout, path: Path, fault: Fault, tests: list[str], counts: Counter[str], seen: set[tuple[str, Any]], *, show: bool
) -> None:  # fmt: skip
    was = path.read_text("utf-8")
    try:
        broken = planted(was, fault)
        compile(broken, str(path), "exec", dont_inherit=True)
    except (SyntaxError, LookupError, ValueError):
        return
    path.write_text(broken, "utf-8")
    try:
        watcher = _Captured(layout.app, str(layout.own))
        chain = (layout.tested(tests, watcher, FAULT_TIMEOUT_S) or {}).get("chain")
        if chain is None:
            return
        link = next(link for link in chain if any(frame["own"] for frame in link["frames"]))
        frame = next(frame for frame in reversed(link["frames"]) if frame["own"])
        place = (frame["file"], frame["line"])
        if (link["type"], place) in seen:
            return
        seen.add((link["type"], place))
        counts["issues"] += 1
        said = _again(layout, chain, place, counts)
        if show:
            print(f"  {said:<14} {link['type']} in {frame['module']}.{frame['function']}:{frame['line']}", flush=True)
            if said not in ("same", "unreachable"):
                lines = _LAST["text"].partition("def test_")[2].splitlines()
                print(
                    "\n".join(
                        [f"    then {_LAST['outcome']}", f"    missing {_LAST['missing']}", *lines[:6], *lines[-6:]]
                    )
                )
    finally:
        path.write_text(was, "utf-8")


def _again(layout: _Layout, chain: Any, place: tuple[str, int], counts: Counter[str]) -> str:
    """Write the test, run it, and return what came of it in a word."""
    try:
        made = as_test({"exceptions": chain}, About(1, layout.app, "2026-11-20T10:00:00Z", ""))
    except NoCall:
        counts["unreachable"] += 1
        return "unreachable"
    counts["importable"] += 1
    counts["characters"] += len(json.dumps(chain))
    target = layout.own / made.name
    target.write_text(made.text, "utf-8")
    try:
        outcome = layout.tested([made.name], _Outcome(str(layout.own)), FAULT_TIMEOUT_S) or {}
    finally:
        target.unlink()
    if "collected" in outcome or not outcome.get("ran"):
        kind = "not run"
    elif outcome.get("type") is None:
        kind = "passes"
    elif outcome["type"] == chain[0]["type"] and outcome["place"] == list(place):
        kind = "same"
    else:
        kind = "other place" if outcome["type"] == chain[0]["type"] else "other type"
    counts[kind] += 1
    counts["whole"] += not made.missing
    _LAST.update(text=made.text, outcome=outcome, missing=made.missing)
    return kind


_LAST: dict[str, Any] = {}
"""The latest test that was written, to look at."""


def main() -> None:
    """Print a row for each package and one for all."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("packages", nargs="*", default=list(LIBRARIES))
    words.add_argument("--faults", type=int, default=30)
    words.add_argument("--show", action="store_true")
    asked = words.parse_args()
    total: Counter[str] = Counter()
    print(f"{'package':<12}{'issues':>8}{'importable':>12}{'same':>7}{'share':>8}   otherwise")
    for app in asked.packages:
        counts = measure(app, asked.faults, show=asked.show)
        total += counts
        _row(app, counts)
    _row("all", total)


def _row(name: str, counts: Counter[str]) -> None:
    rest = ", ".join(f"{kind} {counts[kind]}" for kind in ("passes", "other place", "other type", "not run") if counts[kind])  # fmt: skip
    share = counts["same"] / counts["importable"] if counts["importable"] else 0.0
    print(f"{name:<12}{counts['issues']:>8}{counts['importable']:>12}{counts['same']:>7}{share:>8.0%}   {rest}; nothing missing {counts['whole']}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
