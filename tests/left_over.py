"""No process that a test starts outlives it: whatever is left is ended, and fails the test."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import sys
import time
from pathlib import Path

SUBREAPER = 36  # PR_SET_CHILD_SUBREAPER, prctl(2)
PATIENCE_S = 30.0
# The service's own processes live as long as the service, which several tests may share.
OF_THE_SERVICE = "obitus.service.intake.processes"
# A browser starts it beside itself, a moment after its own start, and it ends with the browser.
OF_A_BROWSER = "chrome_crashpad_handler"


_SHARED: set[int] = set()


def keep(number: int) -> None:
    """Let a process outlive the test that first needs it: a fixture that many tests share ends it."""
    _SHARED.add(number)


def adopt_orphans() -> None:
    """Become the parent of processes whose own parent ends, so that they can be found."""
    if sys.platform == "linux":
        ctypes.CDLL(None, use_errno=True).prctl(SUBREAPER, 1, 0, 0, 0)


def processes() -> dict[int, int]:
    """Return the processes that descend from this one and live, each with the child of this one that it descends from."""
    found: dict[int, int] = {}
    open_ones = [(child, child) for child in children(os.getpid())]
    while open_ones:
        number, first = open_ones.pop()
        if number not in found and lives(number):
            found[number] = first
            open_ones += [(child, first) for child in children(number)]
    return found


def end_what_is_left(before: dict[int, int]) -> list[str]:
    """End processes that were not there before and do not belong to one that was; return their command lines."""
    ends = time.monotonic() + PATIENCE_S
    while (left := _left(before)) and time.monotonic() < ends:
        time.sleep(0.02)
    commands = [f"{number}: {command_of(number)}" for number in left]
    for number in left:
        with contextlib.suppress(OSError):
            os.kill(number, signal.SIGKILL)
    return commands


def _left(before: dict[int, int]) -> list[int]:
    known = before.keys() | _SHARED
    new = [number for number, first in processes().items() if first not in known]
    return [number for number in new if not any(name in command_of(number) for name in (OF_THE_SERVICE, OF_A_BROWSER))]


def children(number: int) -> list[int]:
    """Return the processes that a process started."""
    found: list[int] = []
    with contextlib.suppress(OSError):
        for one in Path(f"/proc/{number}/task").iterdir():
            with contextlib.suppress(OSError):
                found += [int(child) for child in (one / "children").read_text().split()]
    return found


def lives(number: int) -> bool:
    """Whether there is a process of that number, other than as a name."""
    with contextlib.suppress(OSError):
        return "\nState:\tZ" not in Path(f"/proc/{number}/status").read_text()
    return False


def command_of(number: int) -> str:
    """Return the command line of a process; empty where there is none of that number."""
    with contextlib.suppress(OSError):
        return Path(f"/proc/{number}/cmdline").read_text().replace("\0", " ").strip()
    return ""
