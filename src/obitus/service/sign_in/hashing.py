"""Hashing and comparing passwords: one at a time, with the lowest priority."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Final, TypeVar

from obitus.service.problems import Problem
from obitus.service.settings import NICE

WAIT_S: Final = 5.0
"""How long a request waits for earlier ones; then the answer is to try again."""

Result = TypeVar("Result")


class Hashing:
    """A thread of its own for work that takes tens of milliseconds and MiB at any stranger's request."""

    def __init__(self) -> None:
        self._free = threading.BoundedSemaphore()
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="obitus-passwords", initializer=_stand_behind)

    def do(self, act: Callable[..., Result], *given: str | None) -> Result:
        """Do one piece of this work and return the result; raises a problem after waiting too long for others."""
        if not self._free.acquire(timeout=WAIT_S):
            raise Problem("too-busy", "Too many sign in at this moment. Try again in a moment.", retry_after_s=1)
        try:
            return self._thread.submit(act, *given).result()
        finally:
            self._free.release()


def _stand_behind() -> None:
    """Lower this thread's priority. Only on Linux a thread has its own priority (setpriority(2), *C library/kernel differences*)."""
    if sys.platform == "linux":
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICE)
