"""What people ask for wrongly, what lines do that run too often, and how all of it ends: in this interpreter, without a service."""

from __future__ import annotations

import gc
import importlib.util
import itertools
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest

from obitus.client.reporter import Reporter
from obitus.client.settings import load
from obitus.client.tracepoints import points, requested
from obitus.client.tracepoints.points import Budget, Rate
from obitus.client.tracepoints.within import Tracepoints
from obitus.core.tracepoints import hash_of, hash_of_line
from tests.client.test_bounds import Sink
from tests.client.tracepoints.programs import FARES, LINES

QUOTE = LINES["total = base * passengers"]


class App:
    """A module with the fares, and what stands in it."""

    def __init__(self, module: ModuleType, reporter: Reporter, environments: tuple[str, ...] = ()) -> None:
        self.fares: Any = module
        self.reporter = reporter
        self.sink: Any = reporter.base.sender
        self.requested = Tracepoints(reporter.base, reporter.failures.capture, reporter.runs, environments).requested
        self.version = 0

    def ask(self, *orders: dict[str, Any], version: int | None = None, environment: str = "production") -> None:
        self.version += 1
        usual = {"file": self.fares.__file__, "seconds": 60.0, "hits": 1000, "per_second": 100.0, "line": QUOTE}
        made = [usual | {"id": 100 * self.version + place} | order for place, order in enumerate(orders)]
        number = self.version if version is None else version
        self.requested.learn_from({"tracepoints": {"version": number, "environment": environment, "set": made}})
        self.requested.tend()

    def state(self) -> tuple[str, str]:
        (one,) = self.requested.states()
        return one["state"], one["why"]

    def seen(self, act: Callable[[], Any]) -> list[str]:
        self.sink.reports.clear()
        act()
        return [report["message"] for report in self.sink.reports]

    def quote(self) -> Any:
        return self.fares.Fares().quote(4)


def imported(folder: Path, name: str = "fares", file: str = "fares.py") -> ModuleType:
    """Import the module from a file of its own."""
    path = folder / file
    folder.mkdir(exist_ok=True, parents=True)
    path.write_text(FARES)
    # Written before the process began, as far as anybody can see: what runs is what lies there.
    os.utime(path, (1_700_000_000, 1_700_000_000))
    spec = importlib.util.spec_from_file_location(name, path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    spec.loader.exec_module(module)
    return module


def reporter_of(**settings: Any) -> Reporter:
    chosen = load(url="http://127.0.0.1:9", key="okey_x", release="2.9.0", spool="off", tracepoints=True, **settings)
    made = Reporter(chosen, hooks=False, keeps=False)
    made.base.sender.close()
    made.base.sender = Sink()  # type: ignore[assignment]
    return made


@pytest.fixture
def app(tmp_path: Path) -> Iterator[App]:
    made = App(imported(tmp_path / "app"), reporter_of())
    yield made
    made.requested.end()
    del sys.modules["fares"]
    gc.collect()


@pytest.mark.parametrize(
    ("order", "state", "said", "offers"),
    [
        ({"line": 2}, "not set", "line 2 has no code that runs", [1, 3]),
        ({"line": 9999}, "not set", "line 9999 has no code that runs", [LINES['password = "hunter2"'], LINES['return len(card_number)']]),
        ({"file": "tides.py"}, "waits", "no file that ends in tides.py is loaded here", []),
        ({"file": "sailings/fares.py"}, "waits", "no file that ends in sailings/fares.py", []),
        ({"line": LINES["limit = 4"]}, "waits", "runs when its file is imported", []),
        ({"release": "2.8.1"}, "not set", "release 2.9.0 runs here; it was set for 2.8.1", []),
        ({"condition": "open('x')"}, "not set", "nothing of the app is called", []),
        ({"condition": "quote.__globals__"}, "not set", "two underscores", []),
        ({"collect": ["tide"]}, "not set", "does not know how to collect 'tide'", []),
        ({"code_hash": hash_of_line("total = base")}, "not set", "the requested line is not in it", []),
        ({"code_hash": hash_of_line("total += 40 ")}, "not set", f"the requested line is line {LINES['total += 40']} here", [LINES["total += 40"]]),
        ({"hash": "0" * 64}, "not set", "set it again with the source that runs here", []),
        ({"hash": hash_of(FARES.replace("\n", "\r\n").encode())}, "set", "", []),
        ({"hash": "0" * 64, "code_hash": hash_of_line("total = base * passengers")}, "set", "", []),
        ({"hosts": ["pier-*"]}, "", "", []),
    ],
)  # fmt: skip
def test_what_cannot_stand_is_said(app: App, order: dict[str, Any], state: str, said: str, offers: list[int]) -> None:
    """Each says why, and what would do instead; nothing is seen of it."""
    app.ask(order)
    if not state:
        assert app.requested.states() == []
        return
    (one,) = app.requested.states()
    assert one["state"] == state and said in one["why"] and one.get("offers", []) == offers
    assert bool(app.seen(app.quote)) == (state == "set")


def test_two_files_of_that_name(app: App, tmp_path: Path) -> None:
    """More of the path is asked for; with it, the one that was meant is found."""
    modules = [imported(tmp_path / pier, f"fares_of_{pier}", "twins.py") for pier in ("north", "south")]
    app.ask({"file": "twins.py"})
    assert app.state()[0] == "not set" and "2 files end like that" in app.state()[1]
    app.ask({"file": "north/twins.py"})
    assert app.state() == ("set", "") and len(app.seen(lambda: modules[0].Fares().quote(1))) == 1
    assert app.seen(lambda: modules[1].Fares().quote(1)) == []


@pytest.mark.parametrize("file", ["obitus/client/sender.py", "logging/__init__.py"])
def test_the_client_and_logging_are_refused(app: App, file: str) -> None:
    """A tracepoint there would set itself off."""
    app.ask({"file": file, "line": 100})
    assert app.state()[0] == "not set" and "set itself off" in app.state()[1]


def test_a_file_that_was_changed_after_it_was_loaded(app: App) -> None:
    """What lies there now is not what runs: its lines may be others."""
    Path(app.fares.__file__).write_text("# a line more\n" + FARES)
    app.ask({"line": QUOTE + 1})
    assert app.state()[0] == "not set" and "changed after the app had loaded it" in app.state()[1]


@pytest.mark.parametrize(
    ("condition", "trouble"),
    [
        ("1 / 0", "divides by zero"),
        ("harbour > 3", "there is no harbour at this line"),
        ("self.asked", "properties are not run"),
        ("passengers > self", "not compared"),
        ("-" * 15 + "passengers > 10000", ""),
        ('("a" + "b") * 3', "texts are only added"),
    ],
)
def test_conditions_that_go_wrong(app: App, condition: str, trouble: str) -> None:
    """The app goes on, nothing is seen, and the state says why."""
    app.ask({"condition": condition})
    assert app.seen(app.quote) == []
    (one,) = app.requested.states()
    assert one["state"] == "set" and one["looked"] == 1
    assert trouble in one.get("trouble", "")


def test_large_and_strange_locals(app: App) -> None:
    """Ten megabytes are cut, a class that raises at every touch is shown by its name, and none of its code runs."""

    class Hostile:
        def __getattribute__(self, name: str) -> Any:
            raise SystemExit(name)

        def __repr__(self) -> str:
            raise SystemExit("repr")

        def __eq__(self, other: object) -> bool:
            raise SystemExit("eq")

        __hash__ = object.__hash__

        def __mul__(self, other: object) -> int:
            return 1

        __rmul__ = __mul__

    app.ask(
        {
            "line": LINES["base = 12.5"],
            "values": ["vehicle", "passengers", "len(vehicle)"],
            "collect": ["locals"],
            "size": 8000,
        }
    )
    vehicle = "x" * 10_000_000
    assert len(app.seen(lambda: app.fares.Fares().quote(Hostile(), vehicle))) == 1
    hit = app.sink.reports[0]["hit"]
    assert len(hit["values"]["vehicle"]) <= 8000 and hit["values"]["len(vehicle)"] == "10000000"
    assert hit["values"]["passengers"] == "<Hostile>"
    assert sum(map(len, hit["frames"][-1]["locals"].values())) < 20_000


def test_hits_end_it(app: App) -> None:
    """After as many as were asked for it is over here, and an old list does not set it again."""
    app.ask({"id": 7, "hits": 2})
    assert len(app.seen(lambda: [app.quote() for _ in range(5)])) == 2
    app.requested.tend()
    assert app.state()[0] == "over" and "2 times" in app.state()[1]
    app.ask()
    app.ask({"id": 7, "hits": 2})
    assert app.requested.states() == [] and app.seen(app.quote) == []


def test_the_rate_leaves_out_and_counts(app: App) -> None:
    """More than so many a second are counted and not collected."""
    app.ask({"per_second": 3})
    assert len(app.seen(lambda: [app.quote() for _ in range(50)])) in (3, 4)
    (one,) = app.requested.states()
    assert one["left_out"] >= 46 and one["looked"] == 50


def test_its_time_ends_it(app: App) -> None:
    """It is taken away when its time is over, whatever the service says."""
    app.ask({"id": 7, "seconds": 0.05})
    assert app.seen(app.quote)
    time.sleep(0.1)
    app.requested.tend()
    assert app.requested.states() == [] and app.seen(app.quote) == []
    app.ask({"id": 7, "seconds": 60})
    assert app.requested.states() == []


def test_a_service_that_is_not_heard_of(app: App, monkeypatch: pytest.MonkeyPatch) -> None:
    """After a minute without a word all are taken away; once it is heard of again they stand again."""
    app.ask({"id": 7})
    now_s = time.monotonic()
    monkeypatch.setattr(requested, "monotonic", lambda: now_s + 61)
    app.requested.tend()
    assert app.requested.states() == [] and app.seen(app.quote) == []
    app.ask({"id": 7})
    assert app.state() == ("set", "") and len(app.seen(app.quote)) == 1


def test_an_older_list_that_comes_later(app: App) -> None:
    """An answer that was on its way for long changes nothing; a service that was put back is believed after a minute."""
    app.ask({"id": 7}, version=50)
    app.ask(version=40)
    assert app.state() == ("set", "")
    app.ask(version=51)
    assert app.requested.states() == []


def test_only_where_the_app_allows_it(app: App) -> None:
    """The app names the environments; in others nothing stands, and it is said."""
    other = App(app.fares, app.reporter, ("staging",))
    other.ask({}, environment="production")
    assert other.state()[0] == "not set" and "allows tracepoints in staging only, not in production" in other.state()[1]
    other.ask({}, environment="staging")
    assert other.state() == ("set", "")
    other.requested.end()


@pytest.mark.parametrize(
    ("text", "where"), [("", None), ("off", None), ("1", ()), ("yes", ()), ("staging, test", ("staging", "test"))]
)
def test_the_switch(text: str, where: tuple[str, ...] | None) -> None:
    """Nothing is allowed unless somebody says so."""
    assert load(environ={"OBITUS_TRACEPOINTS": text}).tracepoints == where
    assert load(environ={}, tracepoints=True).tracepoints == () and load(environ={}).tracepoints is None


def test_what_costs_too_much_is_switched_off(app: App) -> None:
    """A line that runs without pause: the tracepoint ends itself and says what it took; the app's loop goes on."""
    app.ask({"line": LINES["total += extra"], "condition": "total < 0"})
    ends_s = time.monotonic() + 120
    while app.requested.states()[0]["state"] != "over" and time.monotonic() < ends_s:
        for _ in range(1000):
            app.quote()
    (one,) = app.requested.states()
    assert one["state"] == "over" and "switched off: the line ran" in one["why"]
    app.requested.tend()
    assert one["cost_ms"] < 2_000 and app.quote() == 51.0


def test_one_pause_switches_nothing_off(app: App, monkeypatch: pytest.MonkeyPatch) -> None:
    """A host that pauses the machine in the middle of a hit makes it look expensive; only hits that are so again and again are."""
    app.ask({"hits": 10, "per_second": 100})
    clock = itertools.count(step=300_000_000)
    monkeypatch.setattr(points, "thread_time_ns", lambda: next(clock))
    for hits in (1, 2):
        assert app.quote() == 51.0
        assert [one["state"] for one in app.requested.states()] == ["set"], hits
    app.quote()
    assert "switched off" in app.requested.states()[0]["why"]


def test_the_budget_is_a_share() -> None:
    """What was spent is forgiven at the rate of the share; a burst goes beyond it once."""
    budget = Budget(0.01, burst_ns=1_000)
    at = time.perf_counter_ns() + 10**9
    assert not budget.spend(900, at)
    assert budget.spend(200, at)
    budget = Budget(0.01, burst_ns=1_000)
    assert not any(budget.spend(900, at + turn * 100_000) for turn in range(50))
    rate = Rate(2)
    assert [rate.takes(at) for _ in range(3)] == [True, True, False] and rate.takes(at + 10**9)


def test_a_thousand_threads(app: App) -> None:
    """Each hit has a number of its own, and no more than were asked for are collected."""
    app.ask({"hits": 500, "per_second": 100, "id": 3})
    app.requested._kept[3].point._rate = Rate(1e9)
    app.requested._kept[3].point._within.budget._burst_ns = 10**12
    barrier = threading.Barrier(1000)

    def board() -> None:
        barrier.wait()
        app.quote()

    threads = [threading.Thread(target=board) for _ in range(1000)]
    app.sink.reports.clear()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    numbers = [report["hit"]["number"] for report in app.sink.reports]
    assert sorted(numbers) == list(range(1, 501))


def test_inside_a_signal_handler(app: App) -> None:
    """A line that runs while a hit is being collected is seen by the next one, not in the middle of it; nothing hangs."""
    before = signal.signal(signal.SIGUSR1, lambda *_: app.quote())
    app.ask({})
    try:
        app.sink.reports.clear()
        for _ in range(20):
            os.kill(os.getpid(), signal.SIGUSR1)
            app.quote()
    finally:
        signal.signal(signal.SIGUSR1, before)
    assert 20 <= len(app.sink.reports) <= 40


def test_a_class_with_names_of_its_own_making(app: App, tmp_path: Path) -> None:
    """Locals that are no dictionary of Python's own are not asked for anything."""
    path = tmp_path / "classes.py"
    path.write_text(
        "class Names(dict):\n"
        "    def __getitem__(self, name):\n"
        "        if name == 'fare': raise SystemExit\n"
        "        return dict.__getitem__(self, name)\n"
        "    def get(self, *given): raise SystemExit\n"
        "class Meta(type):\n"
        "    @classmethod\n"
        "    def __prepare__(cls, *given, **named): return Names()\n"
        "def make():\n"
        "    class Tide(metaclass=Meta):\n"
        "        depth = 3\n"
        "        other = 4\n"
        "    return Tide\n"
    )
    spec = importlib.util.spec_from_file_location("classes", path)
    assert spec is not None and spec.loader is not None
    module: Any = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    app.ask({"file": "classes.py", "line": 12, "values": ["depth"]})
    assert app.state() == ("set", "")
    assert app.seen(module.make) == ["classes.py:12 depth = [no value: there is no depth at this line]"]


def test_in_a_forked_child(app: App) -> None:
    """A child starts with nothing set, and sees what it has asked for by itself."""
    app.ask({"id": 7})
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            app.requested.begin_in_child()
            quiet = app.seen(app.quote)
            app.ask({"id": 7})
            loud = app.seen(app.quote)
            os.write(writing, f"{len(quiet)} {len(loud)} {app.fares.Fares().quote(1)}".encode())
        finally:
            os._exit(0)
    os.waitpid(child, 0)
    assert os.read(reading, 100).decode() == "0 1 13.5"
    assert len(app.seen(app.quote)) == 1


def test_what_the_app_raises_in_between_comes_out_in_the_app(app: App, monkeypatch: pytest.MonkeyPatch) -> None:
    """A fault of ours is kept from the app, and told; a time limit of the app's is not kept from it."""

    def fault(*_: Any) -> Any:
        raise KeyError("a fault of ours")

    app.ask({})
    monkeypatch.setattr(points.Point, "_report", fault)
    assert app.seen(app.quote) == []
    assert "KeyError" in app.requested.states()[0]["trouble"]
