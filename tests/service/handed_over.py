"""What the intake of reports hands to the writer."""

from __future__ import annotations

import threading
from typing import Any

from tests.conftest import Running


def handed_over(running: Running) -> list[str]:
    """Return a list that grows with each piece of work that the intake hands to the writer: the name of the thread that does so."""
    threads: list[str] = []
    writer, submit = running.service.records.writer, running.service.records.writer.submit

    def watched(work: Any) -> Any:
        if work.__module__ == "obitus.service.intake.writing":
            threads.append(threading.current_thread().name.partition("_")[0])
        return submit(work)

    writer.submit = watched  # type: ignore[method-assign]
    return threads
