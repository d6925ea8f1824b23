"""The current run is passed on to threads: their steps belong to its trail."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from obitus.client import runs
from obitus.client.patches import Patches


def watch_threads(patches: Patches, starting: Callable[[], None]) -> None:
    """Make a thread that is started inside a run belong to it; ``starting`` is called before each start."""

    def make(before: Any) -> Any:
        def start(thread: threading.Thread) -> None:
            starting()
            run = runs.current.get()
            if run is not None:
                _carry(thread, run)
            before(thread)

        return start

    patches.put(threading.Thread, "start", make)


def _carry(thread: threading.Thread, run: runs.RunState) -> None:
    inner = thread.run

    def carried() -> None:
        # Without this the thread and its own method would form a reference cycle.
        thread.__dict__.pop("run", None)
        runs.current.set(run)
        inner()

    thread.run = carried  # type: ignore[method-assign]
