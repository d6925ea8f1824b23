"""What all tests share: a real service on loopback, and reports to send to it."""

from __future__ import annotations

import atexit
import json
import shutil
import signal
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import pytest
import urllib3
from hypothesis import settings as hypothesis_settings

import obitus
from obitus.client.settings import ENVIRONMENT_NAMES
from obitus.service.run import InThread, listen
from obitus.service.settings import Limits, Settings, system_clock_ms
from obitus.service.wiring import Parts
from tests import left_over
from tests.examples import FEW

left_over.adopt_orphans()
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN and threading.current_thread() is threading.main_thread():
    # Whoever runs the tests in the background has interrupts ignored, and so would all that the tests start.
    signal.signal(signal.SIGINT, signal.default_int_handler)

hypothesis_settings.register_profile("obitus", deadline=None, max_examples=60, derandomize=True)
hypothesis_settings.register_profile("quick", deadline=None, max_examples=FEW, derandomize=True)
hypothesis_settings.load_profile("obitus")


LONG = (
    "tests/core/test_patterns.py",
    "tests/core/stacks/test_linear.py",
    "tests/demo/test_demo.py::test_the_apps_still_report_what_was_recorded",
    "tests/service/test_service.py::test_the_api_holds_against_its_own_description",
    "tests/end_to_end/test_endure.py",
    "tests/end_to_end/test_shift.py",
)
"""What takes longest begins first: begun last, it would run alone."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with what takes longest."""
    items.sort(key=lambda item: not item.nodeid.startswith(LONG))


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Generator[None, object, object]:
    """Count no lines where the same ones run again and again: that takes six times as long. The mark ``no_cover`` is no
    way to say so: in the processes of pytest-xdist two collectors count, and it stops one of them.
    """
    repeats = getattr(getattr(item, "obj", None), "is_hypothesis_test", False) or item.get_closest_marker("slow")
    if not repeats or not item.config.pluginmanager.hasplugin("_cov"):
        return (yield)
    counting = sys.gettrace()
    sys.settrace(None)
    try:
        return (yield)
    finally:
        sys.settrace(counting)


class Clock:
    """The service's clock in tests: the real time, moved by ``ahead_ms``, or the moment at which it was stopped, moved likewise."""

    def __init__(self) -> None:
        self.ahead_ms = 0
        self._stopped_ms: int | None = None

    def __call__(self) -> int:
        return (self._stopped_ms or system_clock_ms()) + self.ahead_ms

    def stop(self) -> None:
        """Stand still: a busy machine may take as long as it likes."""
        self._stopped_ms = system_clock_ms()


@dataclass
class Running:
    """A service on loopback, with an owner's token."""

    service: Parts
    url: str
    token: str
    clock: Clock
    http: urllib3.PoolManager = field(default_factory=lambda: urllib3.PoolManager(retries=False, timeout=150))

    def ask(
        self, method: str, path: str, body: Any = None, *, token: str | None = None, headers: Any = None
    ) -> urllib3.BaseHTTPResponse:
        """Ask the API as the owner, or with another token."""
        sent = {"Authorization": f"Bearer {token or self.token}"} | (headers or {})
        if body is None:
            return self.http.request(method, self.url + path, headers=sent)
        return self.http.request(method, self.url + path, headers=sent, json=body)

    def get(self, path: str) -> Any:
        """Return the answer to a reading request that has to succeed."""
        answer = self.ask("GET", path)
        assert answer.status == 200, answer.data
        return answer.json()

    def add_app(self, name: str = "sailings", environment: str = "production", *, may_deploy: bool = False) -> str:
        """Add an app and return its reporting key; with ``may_deploy`` one that a pipeline may use."""
        answer = self.ask("POST", "/api/apps", {"name": name, "environment": environment})
        assert answer.status == 201, answer.data
        if may_deploy:
            order = {"environment": environment, "may_deploy": True}
            answer = self.ask("POST", f"/api/apps/{name}/keys", order)
            assert answer.status == 201, answer.data
        return str(answer.json()["key"])

    def send(self, key: str, *reports: Any, headers: Any = None) -> urllib3.BaseHTTPResponse:
        """Send reports: dictionaries become lines of JSON, bytes go as they are."""
        lines = [line if isinstance(line, bytes) else json.dumps(line).encode() for line in reports]
        sent = {"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"} | (headers or {})
        return self.http.request("POST", self.url + "/reports", body=b"\n".join(lines), headers=sent)

    def issues(self, **query: str) -> list[dict[str, Any]]:
        """Return the issues of the last 14 days."""
        text = "&".join(f"{name}={value}" for name, value in ({"window": "14d"} | query).items())
        found: list[dict[str, Any]] = self.get(f"/api/issues?{text}")["issues"]
        return found


@cache
def empty_records() -> Path:
    """Return a folder of records with nothing in them: made once, and copied, since making them takes a quarter of a second."""
    folder = Path(tempfile.mkdtemp(prefix="obitus-empty-")) / "data"
    Parts(Settings(data=folder, port=0)).close()
    atexit.register(shutil.rmtree, folder.parent)
    return folder


def start(folder: Path, *, limits: Limits | None = None, port: int = 0, **settings: Any) -> tuple[InThread, Running]:
    """Start a service in a thread."""
    if not folder.exists() or not any(folder.iterdir()):
        shutil.copytree(empty_records(), folder, dirs_exist_ok=True)
    clock = Clock()
    opened = listen("127.0.0.1", port)
    # Tests run beside each other: what has less priority than those would wait for all of them.
    settings.setdefault("nice", 0)
    port = opened.getsockname()[1]
    service = Parts(Settings(data=folder, port=port, limits=limits or Limits(), clock_ms=clock, **settings))
    service.passes.ensure_owner()
    thread = InThread(service, opened)
    thread.start()
    token = service.passes.add("token", 1, "tests", None)
    return thread, Running(service, f"http://127.0.0.1:{port}", token, clock)


@contextmanager
def serving(folder: Path, limits: Limits | None = None, **settings: Any) -> Iterator[Running]:
    """Run a service for as long as somebody needs it."""
    thread, found = start(folder, limits=limits, **settings)
    try:
        yield found
    finally:
        found.http.clear()
        thread.stop()


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    """A service with nothing in it."""
    with serving(tmp_path / "data") as found:
        yield found


@pytest.fixture(autouse=True)
def _client_is_off(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Iterator[None]:
    """No test leaves a reporter behind, or meets the settings and the spool of the shell it runs in."""
    for name in (*ENVIRONMENT_NAMES, "OBITUS_TOKEN"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("OBITUS_SPOOL", str(tmp_path / "spool"))
    yield
    obitus.stop(timeout=0.2)


@pytest.fixture(autouse=True)
def _no_process_is_left() -> Iterator[None]:
    """What a test starts ends with it; what fixtures of a whole file started before is theirs."""
    before = left_over.processes()
    yield
    left = left_over.end_what_is_left(before)
    assert not left, f"left running by this test: {left}"


def until(holds: Callable[[], object], seconds: float = 150) -> None:
    """Wait until something holds; fail when it never does."""
    ends = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < ends, "it never came to hold"
        time.sleep(0.01)


def now_text() -> str:
    """Return the time as reports write it."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def failure(**changes: Any) -> dict[str, Any]:
    """Return a small valid failure; keyword arguments replace its fields."""
    report: dict[str, Any] = {
        "kind": "failure",
        "id": str(uuid.uuid4()),
        "time": now_text(),
        "release": "1.0.0",
        "exceptions": [
            {
                "type": "skerry.TideUnavailable",
                "message": "no depth for eastholm",
                "frames": [
                    {"function": "board", "module": "sailings.boardings", "file": "/srv/boardings.py", "line": 18},
                    {"function": "depth_at", "module": "sailings.tides", "file": "/srv/tides.py", "line": 22},
                ],
            }
        ],
    }
    return {name: value for name, value in (report | changes).items() if value is not ...}


def raised_in(module: str, function: str, type_name: str = "ValueError", message: str = "") -> list[dict[str, Any]]:
    """Return an exception chain of one link that was raised in one place."""
    frame = {"function": function, "module": module, "file": f"/srv/{module}.py", "line": 3}
    return [{"type": type_name, "message": message, "frames": [frame]}]


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Say which Python versions the client was not tried on."""
    from tests.client.interpreters import missing

    if not_there := missing():
        terminalreporter.write_line(f"The client was not tried on Python {', '.join(not_there)}: not there.")
