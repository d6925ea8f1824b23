"""asyncio: exceptions given to a loop's exception handler, among them those of tasks that nobody awaited."""

from __future__ import annotations

import contextvars
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.patches import Patches
from obitus.core.bounds import short

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch every loop that is built on asyncio's own; another one's log records are caught by ``log_records``."""

    patches.put(module.BaseEventLoop, "call_exception_handler", _seeing(reporter))


def install_uvloop(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch uvloop's loops, also those that an app gave a handler of its own."""
    patches.put(module.Loop, "call_exception_handler", _seeing(reporter))


def _seeing(reporter: Reporter) -> Any:
    def make(before: Any) -> Any:
        def call_exception_handler(loop: Any, context: dict[str, Any]) -> None:
            error = context.get("exception")
            if isinstance(error, Exception):
                attributes = {"asyncio.said": short(str(context.get("message", "")))}

                def tell() -> None:
                    reporter.failures.record(error, handled=False, captured_by="asyncio", attributes=attributes)

                # An abandoned task may be found in any context: its own counts, or none.
                _context_of(context.get("task") or context.get("future")).run(tell)
            before(loop, context)

        return call_exception_handler

    return make


def _context_of(task: Any) -> contextvars.Context:
    look_up = getattr(task, "get_context", None)
    context = look_up() if look_up is not None else None
    return context.copy() if isinstance(context, contextvars.Context) else contextvars.Context()
