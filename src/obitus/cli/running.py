"""``obitus run -- COMMAND``: runs any program, passes its output through unchanged, and reports it when it fails."""

from __future__ import annotations

import contextlib
import contextvars
import os
import re
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from types import FrameType
from typing import Any, Final

from obitus.cli.errors import UsageTrouble
from obitus.client.failures import SUPERVISOR_FILE
from obitus.client.reporter import Reporter
from obitus.client.scope import RunScope
from obitus.client.settings import Settings
from obitus.core.bounds import said, short
from obitus.core.log_files.records import LogLine, record_of
from obitus.core.stacks import find_stacks, report_form

KEPT_BYTES: Final = 64 * 1024
LAST_LINES: Final = 60
_STREAMS: Final = {1: "stdout", 2: "stderr"}
_COLOUR = re.compile("\x1b\\[[0-9;]*[A-Za-z]")
_PASSED_ON: Final = ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGWINCH")
_LEFT_ALONE: Final = ("SIGINT", "SIGTERM", "SIGHUP")


class Tail:
    """The last bytes of a stream that is passed through."""

    def __init__(self) -> None:
        self._pieces: deque[bytes] = deque()
        self._size = 0

    def add(self, piece: bytes) -> None:
        """See some bytes pass."""
        self._pieces.append(piece)
        self._size += len(piece)
        while self._size - len(self._pieces[0]) >= KEPT_BYTES:
            self._size -= len(self._pieces.popleft())

    def text(self) -> str:
        """Return what was kept, as text."""
        return b"".join(self._pieces)[-KEPT_BYTES:].decode("utf-8", "replace").replace("\r\n", "\n")


class Lines:
    """The lines of a stream that is passed through, as log records of the program's run."""

    def __init__(self, reporter: Reporter, program: str, stream: str) -> None:
        self._reporter, self._program, self._stream = reporter, program, stream
        self._rest = b""

    def add(self, piece: bytes) -> None:
        """See some bytes pass."""
        *lines, self._rest = (self._rest + piece).split(b"\n")
        for line in lines:
            self._tell(line)
        if len(self._rest) > KEPT_BYTES:
            self.end()

    def end(self) -> None:
        """The stream has ended: a last line without a line end counts too."""
        rest, self._rest = self._rest, b""
        self._tell(rest)

    def _tell(self, line: bytes) -> None:
        text = _COLOUR.sub("", line[:KEPT_BYTES].decode("utf-8", "replace")).rstrip("\r")
        if not text.strip():
            return
        record = record_of(text) or LogLine("", "", text)
        self._reporter.runs.log_record(
            record.message, record.severity or "INFO", self._program, {"log.iostream": self._stream}
        )


def run(command: list[str], settings: Settings, *, lines: bool = False) -> int:
    """Run a command, report it when it fails, and return the exit status to end with.

    Signals are passed on to it; with ``lines``, every line that it prints is a log record. Raises UsageTrouble where there is no such program.
    """
    reporter = None if settings.off or settings.missing else Reporter(settings, hooks=False)
    if not settings.off and settings.missing:
        sys.stderr.write(f"obitus: {settings.missing} is not set, so nothing is reported. Run: obitus check\n")
    descriptor, supervisor_file = tempfile.mkstemp(prefix="obitus-run-")
    os.close(descriptor)
    try:
        return _run(command, reporter, Path(supervisor_file), lines=lines and reporter is not None)
    finally:
        if reporter is not None:
            reporter.life.last_words()
        Path(supervisor_file).unlink(missing_ok=True)


def _run(command: list[str], reporter: Reporter | None, supervisor_file: Path, *, lines: bool) -> int:
    name = Path(command[0]).name
    scope = RunScope(reporter, short(f"command {name}"), "obitus run") if reporter is not None else None
    environment = os.environ | {SUPERVISOR_FILE: str(supervisor_file)}
    if scope is not None:
        environment["TRACEPARENT"] = scope.run.traceparent
    started_s = time.monotonic()
    tail = Tail()
    try:
        with contextlib.ExitStack() as stack:
            streams = {2: stack.enter_context(_stream(2))}
            if lines:
                streams[1] = stack.enter_context(_stream(1))
            theirs = {number: pair[1] for number, pair in streams.items()}
            # Before it runs: a signal that comes as it starts is for it, too.
            with _Signals() as signals:
                process = subprocess.Popen(command, stdout=theirs.get(1), stderr=theirs[2], env=environment)  # noqa: S603 - that is what was asked for
                signals.are_for(process)
                for descriptor in theirs.values():
                    os.close(descriptor)
                copiers = []
                for number, (ours, _) in streams.items():
                    seen = [tail.add] if number == 2 else []
                    its_lines = Lines(reporter, name, _STREAMS[number]) if lines and reporter is not None else None
                    # The run is the current one there, too.
                    copy = partial(contextvars.copy_context().run, _copy, ours, number, seen, its_lines)
                    copiers.append(threading.Thread(target=copy, daemon=True))
                    copiers[-1].start()
                status = process.wait()
                # A grandchild may hold a stream open for ever: the parent's output has arrived by then.
                until_s = time.monotonic() + 1.0
                for copier in copiers:
                    copier.join(max(0.0, until_s - time.monotonic()))
    except OSError as error:
        if scope is not None:
            chain = [{"type": "CannotStart", "message": f"{name}: {error.strerror}", "frames": []}]
            _report(scope, command, chain, {}, "")
            scope.finish("failed")
        raise UsageTrouble(f"{command[0]} cannot be started: {error.strerror}.") from error
    if scope is None:
        return _status_of(status)
    asked_to_end = status < 0 and signal.Signals(-status).name in _LEFT_ALONE
    if status == 0 or asked_to_end:
        scope.finish("ok" if status == 0 else "refused")
        return _status_of(status)
    if not supervisor_file.read_text("ascii", "replace").strip():
        text = tail.text()
        ended = f"signal {signal.Signals(-status).name}" if status < 0 else f"exit status {status}"
        attributes = {
            "process.exit.code": _status_of(status),
            "process.end": ended,
            "process.duration_ms": round((time.monotonic() - started_s) * 1000),
            "process.environment_names": said(", ".join(sorted(os.environ))),
        }
        _report(scope, command, _chain(name, ended, text), attributes, text)
    scope.finish("failed")
    return _status_of(status)


def _report(
    scope: RunScope, command: list[str], chain: list[dict[str, Any]], attributes: dict[str, Any], text: str
) -> None:
    """Report why the program failed, as a failure of its run, with its last lines."""
    scope.run.outcome = "failed"
    reporter = scope.reporter
    for line in [line for line in text.splitlines() if line.strip()][-LAST_LINES:]:
        reporter.runs.breadcrumb("log", line, "ERROR", {"log.iostream": "stderr"})
    reporter.failures.record_chain(chain, "obitus run", attributes | {"process.command": said(" ".join(command))})


def _chain(name: str, ended: str, text: str) -> list[dict[str, Any]]:
    """Return why the program failed: the last stack trace that it wrote, else its exit status and its last lines."""
    stacks = find_stacks(text)
    if stacks:
        return report_form(stacks[-1].chain)
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    last = f": {said(lines[-1])}" if lines else ""
    return [{"type": ended, "message": f"{name} ended with {ended}{last}", "frames": []}]


@contextlib.contextmanager
def _stream(number: int) -> Iterator[tuple[int, int]]:
    """Return a pair of descriptors, ours and the program's; a terminal where ours is one, so that its output is the same."""
    if os.isatty(number) and hasattr(os, "openpty"):
        ours, theirs = os.openpty()
        with contextlib.suppress(OSError, ImportError):
            import fcntl
            import termios

            size = fcntl.ioctl(number, termios.TIOCGWINSZ, b"\0" * 8)
            fcntl.ioctl(theirs, termios.TIOCSWINSZ, size)
            modes = termios.tcgetattr(theirs)
            # The real terminal converts line feeds; they must not be converted twice.
            modes[1] &= ~termios.OPOST
            termios.tcsetattr(theirs, termios.TCSANOW, modes)
    else:
        ours, theirs = os.pipe()
    yield ours, theirs


def _copy(ours: int, number: int, seen: Sequence[Callable[[bytes], None]], lines: Lines | None) -> None:
    try:
        while piece := os.read(ours, 65536):
            for see in seen:
                see(piece)
            _write_whole(number, piece)
            # The program's own output comes first.
            if lines is not None:
                lines.add(piece)
    except OSError:
        # Either the program's side is closed, or nobody reads ours any more: then the program learns of it as it would without us.
        pass
    finally:
        os.close(ours)
    if lines is not None:
        lines.end()


def _write_whole(descriptor: int, piece: bytes) -> None:
    place = 0
    while place < len(piece):
        try:
            place += os.write(descriptor, piece[place:])
        except BlockingIOError:
            # Some program that shares it has made it so that writing does not wait.
            select.select([], [descriptor], [])


class _Signals:
    """Passes signals on to the program; those that come before it has started, once it has."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._came: list[int] = []
        self._before: dict[signal.Signals, Any] = {}

    def __enter__(self) -> _Signals:
        for name in _PASSED_ON:
            number = getattr(signal, name, None)
            if number is not None:
                self._before[number] = signal.signal(number, self._pass_on)
        return self

    def __exit__(self, *_: object) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def are_for(self, process: subprocess.Popen[bytes]) -> None:
        """The program has started."""
        self._process = process
        while self._came:
            self._pass_on(self._came.pop(0), None)

    def _pass_on(self, number: int, frame: FrameType | None) -> None:
        if self._process is None:
            self._came.append(number)
        # From a terminal the whole group gets an interrupt: the program has it already.
        elif not (number == signal.SIGINT and os.isatty(0)):
            with contextlib.suppress(ProcessLookupError):
                self._process.send_signal(number)


def _status_of(status: int) -> int:
    """Return the status in the shells' form: 128 plus the number of the signal."""
    return 128 - status if status < 0 else status
