"""The reporter: one running client, assembled from its parts. ``obitus.watch`` starts one for the process."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.base import Base, clock_ms
from obitus.client.failures import Failures
from obitus.client.limits import Limits
from obitus.client.open_runs import OpenRuns
from obitus.client.patches import Patches
from obitus.client.process_life import ProcessLife
from obitus.client.settings import Settings
from obitus.core.clock import to_text

if TYPE_CHECKING:
    from obitus.client.tracepoints.within import Tracepoints


class Reporter:
    """``runs`` are opened, finished and counted, ``failures`` captured, each within its limits; ``life`` is that of the process."""

    def __init__(
        self,
        settings: Settings,
        *,
        clock_ms: Callable[[], int] = clock_ms,
        random_bytes: Callable[[int], bytes] = os.urandom,
        timer: Callable[[], float] = time.perf_counter,
        process: Mapping[str, Any] | None = None,
        says_time: bool = True,
        hooks: bool = True,
        keeps: bool = True,
        family: str = "",
    ) -> None:
        if not settings.only_file and (settings.url is None or settings.key is None):
            raise ValueError("a reporter needs an address and a key, or a file to write to")
        self.settings = settings
        self.timer = timer
        self.base = Base(
            settings,
            clock_ms=clock_ms,
            random_bytes=random_bytes,
            timer=timer,
            process=process or {},
            joins_trace=hooks,
            family=family,
        )
        limits = Limits(self.base)
        self.runs = OpenRuns(self.base, limits, wakes=keeps)
        self.failures = Failures(self.base, limits, self.runs)
        self.life = ProcessLife(
            self.base,
            limits,
            self.runs,
            self.failures,
            tracepoints=self._tracepoints() if keeps else None,
            install=self._install if hooks else None,
            says_time=says_time,
            keeps=keeps,
            is_child=bool(family),
        )

    def _tracepoints(self) -> Tracepoints | None:
        """Return the part that sets tracepoints, which is only loaded where the app allows them."""
        environments = self.settings.tracepoints
        if environments is None or self.settings.only_file:
            return None
        from obitus.client.tracepoints.within import Tracepoints

        return Tracepoints(self.base, self.failures.capture, self.runs, environments)

    def _install(self, place: str, patches: Patches, module: ModuleType) -> None:
        """Let the function at a place (``module:function``) watch a library that was just loaded."""
        name, _, function = place.partition(":")
        getattr(import_module(name), function)(self, patches, module)

    def status(self) -> dict[str, Any]:
        """Return how reporting goes."""
        sender = self.base.sender
        spooled, spooled_bytes = sender.spooled
        return {
            "reporting": True,
            "url": self.settings.url,
            "release": self.settings.release,
            "waiting": sender.waiting,
            "spool": str(self.settings.spool) if self.settings.spool is not None else None,
            "spooled": spooled,
            "spooled_bytes": spooled_bytes,
            "sent": sender.sent,
            "refused": sender.refused,
            "dropped": dict(sender.dropped),
            "last_sent": to_text(int(sender.sent_last_s * 1000)) if sender.sent_last_s else None,
            "trouble": sender.sayings.latest,
        }
