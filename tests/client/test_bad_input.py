"""Whatever the app holds or raises, it never notices that it is watched, and what can be told is told."""

from __future__ import annotations

import contextvars
import sys
import time
from pathlib import Path
from typing import Any

import pytest

import obitus
from obitus.client import capture, state
from obitus.client.values import MOST_CHARS
from tests import kept
from tests.client.conftest import Reported
from tests.client.programs import run
from tests.client.test_unhandled import failures
from tests.conftest import Running


class Hostile:
    """Everything that a class can do to whoever shows it."""

    def __init__(self, trouble: str) -> None:
        self.trouble = trouble
        self.changes = 0

    def __repr__(self) -> str:
        return self._shown()

    __str__ = __repr__

    def _shown(self) -> str:
        self.changes += 1
        if self.trouble == "raises":
            raise RuntimeError("no repr")
        if self.trouble == "hangs":
            time.sleep(3600)
        if self.trouble == "is huge":
            return "x" * 100_000_000
        return 7  # type: ignore[return-value]

    def __getattr__(self, name: str) -> Any:
        raise RuntimeError(name)


TROUBLES = ["raises", "hangs", "is huge", "is no text"]


@pytest.mark.parametrize("trouble", TROUBLES)
def test_hostile_values(reported: Reported, trouble: str) -> None:
    """A local whose repr raises, hangs, is 100 MB or no text is shown by its class, fast, and does not change."""
    value = Hostile(trouble)

    def fail() -> None:
        held = value  # noqa: F841
        raise ValueError("berth")

    started = time.perf_counter()
    try:
        fail()
    except ValueError as error:
        obitus.record(error, given=value)
    assert time.perf_counter() - started < 60 and value.changes == 0
    report = reported.one()
    shown = report["exceptions"][0]["frames"][-1]["locals"]["held"]
    assert shown.startswith("<Hostile") and len(shown) <= MOST_CHARS


@pytest.mark.parametrize("trouble", TROUBLES)
def test_hostile_messages(reported: Reported, trouble: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """An exception whose text raises, hangs, is 100 MB or no text is reported all the same; one that hangs is asked once."""
    if trouble == "is huge":
        # On a machine that is busy the hundred megabytes take longer than is waited for otherwise.
        monkeypatch.setattr(capture, "TEXT_TIMEOUT_S", 3.0)

    class HostileError(Exception):
        def __str__(self) -> str:
            return Hostile(trouble)._shown()

    started = time.perf_counter()
    for _ in range(2):
        obitus.record(HostileError("x"))
    assert time.perf_counter() - started < 60
    first, second = reported.all()
    message = first["exceptions"][0]["message"]
    assert message.startswith("x" * 100) if trouble == "is huge" else message.startswith("[no message"), message
    assert len(message) <= 8000 and second["exceptions"][0]["type"] == first["exceptions"][0]["type"]


def test_deep_recursion(running: Running, tmp_path: Path) -> None:
    """Fifty thousand calls deep: both ends of the stack are kept, and what is missing is counted."""
    code = """
        import sys, threading, obitus
        obitus.watch()
        sys.setrecursionlimit(60_000)
        threading.stack_size(512 * 1024 * 1024)
        def dive(left):
            if left == 0: raise ValueError("bottom")
            dive(left - 1)
        thread = threading.Thread(target=dive, args=(50_000,)); thread.start(); thread.join()
    """
    assert run(running, running.add_app(), tmp_path, code).returncode == 0
    (report,) = failures(running, 1)
    link = report["exceptions"][0]
    assert len(link["frames"]) == 200 and link["frames_left_out"] > 49_000 and link["message"] == "bottom"


def test_a_frame_with_ten_thousand_locals(reported: Reported) -> None:
    """They are bounded, and the report stays small."""
    names: dict[str, Any] = {}
    lines = "\n".join(f"    v{i} = {i}" for i in range(10_000))
    exec(compile(f"def fail():\n{lines}\n    raise ValueError('many')", "<made>", "exec"), names)
    try:
        names["fail"]()
    except ValueError as error:
        obitus.record(error)
    frame = reported.one()["exceptions"][0]["frames"][-1]
    assert len(frame["locals"]) == 40 and "source" not in frame


def test_source_that_changed_or_went(reported: Reported, tmp_path: Path) -> None:
    """Lines are only shown where they are those that run; else it is said why they are not."""
    held = {}
    for name in ("same", "changed", "gone"):
        path = tmp_path / f"{name}.py"
        path.write_text(f"def fail():\n    raise ValueError('{name}')\n")
        names: dict[str, Any] = {"__name__": name}
        exec(compile(path.read_text(), str(path), "exec"), names)
        held[name] = names["fail"]
    (tmp_path / "changed.py").write_text("def fail():\n    berth = 7\n    return berth\n")
    (tmp_path / "gone.py").unlink()
    for name, fail in held.items():
        try:
            fail()
        except ValueError as error:
            obitus.record(error, case=name)
    frames = {report["attributes"]["case"]: report["exceptions"][0]["frames"][-1] for report in reported.all()}
    assert frames["same"]["source"]["line"].strip() == "raise ValueError('same')"
    assert "source" not in frames["changed"] and "changed" in frames["changed"]["source_missing"]
    assert "source" not in frames["gone"] and "not there" in frames["gone"]["source_missing"]


def test_surrogates_and_control_characters(reported: Reported) -> None:
    """Texts that are no Unicode arrive with what cannot be said replaced."""
    obitus.mark("half \ud800 pair", text="\x00\x1b[31m")
    obitus.record(ValueError("half \udfff pair \x00"), **{"n\ud800me": "\udcff"})
    report = reported.one()
    assert report["exceptions"][0]["message"].startswith("half ")


@pytest.mark.parametrize(
    "call",
    [
        lambda: obitus.record(),
        lambda: obitus.record("no exception"),  # type: ignore[arg-type]
        lambda: obitus.mark(None),  # type: ignore[arg-type]
        lambda: obitus.mark("x" * 10_000_000, attributes={"deep": [{}] * 100_000}),
        lambda: obitus.attach({1: object(), None: float("nan")}),  # type: ignore[dict-item]
        lambda: obitus.say(7, severity="LOUD"),  # type: ignore[arg-type]
        lambda: obitus.run(None).__enter__(),  # type: ignore[arg-type]
        lambda: obitus.flush(-1),
        lambda: obitus.mark("x", message="y", error=1, entry_point="z"),
        lambda: obitus.record(ValueError(), error="y", message="z"),
    ],
)
def test_wrong_calls_never_raise(reported: Reported, call: Any) -> None:
    """Whatever the client is called with, the app goes on, and so does reporting."""
    contextvars.copy_context().run(call)
    obitus.record(KeyError("after"))
    assert any(report["exceptions"][0]["type"] == "KeyError" for report in reported.all())


def test_what_is_beyond_the_rate_is_said(running: Running) -> None:
    """Log records far beyond the rate are not sent, and the service is told how many."""
    obitus.watch(url=running.url, key=running.add_app())
    for i in range(4000):
        obitus.say(f"sailing {i} is boarding", severity="INFO")
    assert obitus.flush(60)
    dropped = obitus.status()["dropped"]["too many at once"]
    obitus.stop()
    messages = [log["message"] for log in kept.reports(running.service, "log")]
    said = [message for message in messages if "because too many at once" in message]
    assert len(said) >= 1 and len(messages) - len(said) + dropped == 4000 and dropped > 1000


def test_no_thread_is_left_behind(running: Running) -> None:
    """After stop() every thread of the client ends."""
    obitus.watch(url=running.url, key=running.add_app())
    with obitus.run("job x"):
        obitus.record(ValueError())
    assert state.active is not None
    threads = (state.active.base.sender._keeper, state.active.base.sender._poster)
    assert any(thread.running for thread in threads)
    obitus.stop()
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        if not any(thread.running for thread in threads):
            return
        time.sleep(0.05)
    raise AssertionError([thread._name for thread in threads if thread.running])


def test_the_module_works_without_posix_locks(tmp_path: Path, running: Running) -> None:
    """Where the system has no file locks, reports wait in memory, and that is said."""
    code = """
        import sys
        sys.modules["fcntl"] = None
        import obitus
        obitus.watch()
        obitus.record(ValueError("no locks"))
        assert obitus.flush(60)
    """
    ended = run(running, running.add_app(), tmp_path, code)
    assert ended.returncode == 0, ended.stderr
    assert "in memory only" in ended.stderr or "reports wait in memory" in ended.stderr
    assert len(failures(running, 1)) == 1 and sys.platform != "win32"
