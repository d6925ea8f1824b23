"""Starts services from a process that has nothing left to import.

A thousand starts are then a thousand times what a service does with its records, and not a thousand times two seconds of imports.
Each service goes by the clock of a file, as in ``bench.endure.odd_clock``, and counts failures of one issue without keeping them whole
from the fiftieth on: none of them lives long enough to come to the thousandth. On Linux alone.
"""

from __future__ import annotations

import functools
import importlib
import json
import os
import pkgutil
import select
import signal
import subprocess
import sys
import traceback
from pathlib import Path
from typing import Final

from bench.endure.odd_clock import go_by
from obitus.service.settings import Limits

IMPORTED: Final = ("obitus.service", "obitus.store", "obitus.core", "obitus.cli")
LEFT_OUT: Final = ("__main__", "obitus.service.intake.processes")
"""What does something when it is imported, or is a process of its own."""
WHOLE_AT_ONCE: Final = 50


class Forked:
    """A process that somebody else has started, with what is needed of :class:`subprocess.Popen`."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._handle = os.pidfd_open(pid)

    def poll(self) -> int | None:
        """Return None while it runs, and 0 afterwards, however it ended."""
        return 0 if select.select([self._handle], [], [], 0)[0] else None

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it has ended; raises ``TimeoutExpired`` where that takes longer than so many seconds."""
        if not select.select([self._handle], [], [], timeout)[0]:
            raise subprocess.TimeoutExpired("obitus", timeout or 0)
        return 0

    def send_signal(self, number: int) -> None:
        """Send it a signal, unless it has ended."""
        if self.poll() is None:
            signal.pidfd_send_signal(self._handle, number)

    def kill(self) -> None:
        """End it without a word."""
        self.send_signal(signal.SIGKILL)


class Forking:
    """The process that others are forked from."""

    def __init__(self, clock: Path) -> None:
        command = [sys.executable, "-c", f"from {__name__} import fork_for_each_line as go; go({str(clock)!r})"]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def start(self, arguments: list[str], log: Path) -> Forked:
        """Start the command line with these arguments; what it prints goes to the end of a file."""
        assert self._process.stdin is not None and self._process.stdout is not None
        self._process.stdin.write(json.dumps({"arguments": arguments, "log": str(log)}) + "\n")
        self._process.stdin.flush()
        return Forked(int(self._process.stdout.readline()))

    def end(self) -> None:
        """End it. What was forked from it goes on."""
        self._process.communicate(timeout=120)


def _import_all() -> None:
    for name in IMPORTED:
        package = importlib.import_module(name)
        for found in pkgutil.walk_packages(package.__path__, name + "."):
            if not found.name.endswith(LEFT_OUT):
                importlib.import_module(found.name)


def _become(arguments: list[str], log: str) -> None:
    """Be the command line, and never return."""
    code = 1
    try:
        # Children of its own are waited for as usual.
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        written = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        nothing = os.open(os.devnull, os.O_RDONLY)
        for ours, theirs in ((nothing, 0), (written, 1), (written, 2)):
            os.dup2(ours, theirs)
        sys.argv = ["obitus", *arguments]
        from obitus.cli import main

        main()
        code = 0
    except SystemExit as error:
        code = error.code if isinstance(error.code, int) else 1
    except BaseException:
        traceback.print_exc()
    finally:
        os._exit(code)


def fork_for_each_line(clock: str) -> None:
    """Start the command line for each line that is read, with the arguments that it holds, and print its process id."""
    go_by(Path(clock))
    _import_all()
    Limits.__init__ = functools.partialmethod(Limits.__init__, whole_failures_at_once=WHOLE_AT_ONCE)  # type: ignore[assignment]
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    for line in sys.stdin:
        asked = json.loads(line)
        pid = os.fork()
        if pid == 0:
            _become(asked["arguments"], asked["log"])
        print(pid, flush=True)
