"""No pattern of client and core can be made to run away: twice the text takes about twice the time, whatever the text.

Anybody who can make an app fail, or log, can choose what these patterns are searched for in.
"""

from __future__ import annotations

import ast
import importlib
import pkgutil
import re
import signal
import time
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

import pytest

import obitus.client
import obitus.core
from obitus.core.redaction import Redactor
from obitus.core.redaction.rules import parse_rule
from tests.core.pumping import Attack, attacks

ROOT = Path(obitus.core.__file__).parents[1]
# Behind a repetition that is bounded by 1,000, time grows with the text again: the smaller text is longer than that.
SMALL, LARGE = 2_000, 8_000
LINEAR_MS, MOST_GROWTH = 2, 7.0
GIVEN_UP_S = 4.0
TIMES = 4
SEARCHING = frozenset({"search", "sub", "subn", "finditer", "findall", "split"})


@cache
def methods() -> dict[str, set[str]]:
    """Return by which methods each name is used anywhere in the package; one of a module alone, in that module."""
    used: dict[str, set[str]] = defaultdict(set)
    for path in ROOT.rglob("*.py"):
        module = ".".join(("obitus", *path.relative_to(ROOT).with_suffix("").parts)).removesuffix(".__init__")
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Attribute):
                owner = node.value
                name = owner.id if isinstance(owner, ast.Name) else getattr(owner, "attr", None)
                if name is not None:
                    used[f"{module}.{name}" if isinstance(owner, ast.Name) and name.startswith("_") else name].add(
                        node.attr
                    )
    return used


def written_in_place() -> Iterator[tuple[str, re.Pattern[Any]]]:
    """Yield the patterns that stand as a text where they are used: ``re.sub(r"…", …)``."""
    for part in ("core", "client"):
        for path in (ROOT / part).rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text("utf-8"))):
                if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)):
                    continue
                if ast.unparse(node.func.value) == "re" and node.func.attr in SEARCHING | {"match", "fullmatch"}:
                    yield f"{path.stem}:{node.lineno}.{node.func.attr}", re.compile(as_text(node.args[0]))


def as_text(node: ast.expr) -> str:
    """Return the text of a literal; a name stands for what an f-string puts into it."""
    if isinstance(node, ast.JoinedStr):
        return "".join(part.value if isinstance(part, ast.Constant) else "name" for part in node.values)  # type: ignore[misc]
    assert isinstance(node, ast.Constant), f"name the pattern, so that it can be tested: {ast.unparse(node)}"
    return str(node.value)


def held(name: str, value: Any, deep: int = 0) -> Iterator[tuple[str, re.Pattern[Any]]]:
    """Yield the patterns that a value is or holds."""
    if isinstance(value, re.Pattern):
        yield name, value
    elif deep < 4 and isinstance(value, list | tuple | set | frozenset):
        for place, inner in enumerate(value):
            yield from held(f"{name}[{place}]", inner, deep + 1)
    elif deep < 4 and isinstance(value, dict):
        for key, inner in value.items():
            yield from held(f"{name}[{key!r}]", inner, deep + 1)
    elif deep < 4 and type(value).__module__.startswith("obitus."):
        names = list(getattr(value, "__dict__", ())) or getattr(type(value), "__slots__", ())
        for part in names:
            yield from held(f"{name}.{part}", getattr(value, part, None), deep + 1)


def patterns() -> dict[str, re.Pattern[Any]]:
    """Return every pattern of core and client, by where it stands."""
    found: dict[str, re.Pattern[Any]] = {}
    for package in (obitus.core, obitus.client):
        for module in pkgutil.walk_packages(package.__path__, package.__name__ + "."):
            loaded = importlib.import_module(module.name)
            for name, value in vars(loaded).items():
                for place, pattern in held(f"{module.name}.{name}", value):
                    found.setdefault(place, pattern)
    rules = [parse_rule("name vessel pin"), parse_rule("e-mail")]
    found |= dict(held("redactor", Redactor(rules)))
    found |= dict(written_in_place())
    known: dict[int, str] = {}
    for place, pattern in found.items():
        known.setdefault(id(pattern), place)
    return {place: found[place] for place in known.values()}


def how_used(place: str) -> list[str]:
    """Return the methods a pattern is used by; a search where that cannot be told."""
    name = place.split("[")[0].rpartition(".")[2]
    if name in SEARCHING | {"match", "fullmatch"}:
        return ["search" if name in SEARCHING else name]
    used = methods()[name] | methods()[place.split("[")[0]]
    found = [method for method in ("match", "fullmatch") if method in used]
    return [*found, "search"] if used & SEARCHING or not found else found


class TooLong(Exception):
    """A search that was given up."""


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Give up what takes longer."""

    def stop(*_: Any) -> None:
        raise TooLong

    # Not by the processor's time: while such an alarm is set, that is only known to within milliseconds.
    before = signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def milliseconds(pattern: re.Pattern[Any], method: str, text: str, times: int = 3) -> float:
    """Return the processor's time for one use on a text, the shortest of up to so many times."""
    given: Any = text.encode("latin-1", "replace") if isinstance(pattern.pattern, bytes) else text
    best = float("inf")
    for _ in range(times):
        started = time.process_time()
        try:
            with within(GIVEN_UP_S):
                if method == "search":
                    for _ in pattern.finditer(given):
                        pass
                else:
                    getattr(pattern, method)(given)
        except TooLong:
            return float("inf")
        best = min(best, (time.process_time() - started) * 1000)
        if best < LINEAR_MS:
            break
    return best


def grows(pattern: re.Pattern[Any], method: str, small: str, took_ms: float) -> bool:
    """Whether a text four times as long as ``small`` took far more than four times as long."""
    return took_ms == float("inf") or took_ms / max(milliseconds(pattern, method, small), 0.01) > MOST_GROWTH


def runs_away(pattern: re.Pattern[Any], method: str, attack: Attack) -> bool:
    """Whether time grows far more than the text from each size to the next."""
    # Once is enough to find nothing wrong: what disturbs a measurement makes it longer.
    small, large = attack.text(SMALL), attack.text(LARGE)
    took = milliseconds(pattern, method, large, times=1)
    if took < LINEAR_MS or not grows(pattern, method, small, took):
        return False
    if took == float("inf"):
        return True
    took = milliseconds(pattern, method, large)
    if not grows(pattern, method, small, took):
        return False
    return grows(pattern, method, large, milliseconds(pattern, method, attack.text(4 * LARGE)))


def worst_of(pattern: re.Pattern[Any], place: str) -> str:
    """Return in words how a pattern runs away; empty when it does not."""
    made = list(attacks(pattern))
    for method in how_used(place):
        for attack in made:
            # A machine that was busy with something else for a moment is no proof: it has to be so each time.
            if all(runs_away(pattern, method, attack) for _ in range(TIMES)):
                text = attack.text(LARGE)
                return f"{place} {method}: {milliseconds(pattern, method, text):.1f} ms for {text[:50]!r}…"
    return ""


PARTS = 4


@pytest.mark.slow
@pytest.mark.timeout(600)
@pytest.mark.parametrize("part", range(PARTS))
def test_no_pattern_runs_away(part: int) -> None:
    """Texts made against each repetition of each pattern, in two sizes: time grows with the text, not with its square."""
    found = sorted(patterns().items())
    assert len(found) > 200
    bad = [said for place, pattern in found[part::PARTS] if (said := worst_of(pattern, place))]
    assert not bad, "\n".join(bad)


@pytest.mark.slow
def test_runaways_are_found(monkeypatch: pytest.MonkeyPatch) -> None:
    """The test itself finds what it looks for; each of these takes milliseconds, or far longer than what is waited for here."""
    monkeypatch.setattr("tests.core.test_patterns.GIVEN_UP_S", 0.3)
    monkeypatch.setattr("tests.core.test_patterns.TIMES", 2)
    bad = [r"\beyJ[\w-]{8,}\.", r"(?:x+x+)+y", r"\s+#", r"a.*b.*c$", r"\[[^\]]*\]", r"^(\w+\s?)*$"]
    for source in bad:
        assert worst_of(re.compile(source), "one"), source
    good = [r"(?<![\w-])eyJ[\w-]{8,}+\.", r"\w+", r"(?<!\s)\s++#", r"\[[^\[\]]*\]"]
    for source in good:
        assert not worst_of(re.compile(source), "one"), source
