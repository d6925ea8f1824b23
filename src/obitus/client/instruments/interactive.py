"""Interactive Python (IPython and notebooks) and gevent's greenlets."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.patches import Patches
from obitus.core.bounds import short

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def _active() -> Reporter | None:
    return active_reporter()


def install_ipython(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Report exceptions of a shell's cells; typing errors of its user are no failures."""

    @guarded
    def ran(result: Any) -> None:
        active = _active()
        error = getattr(result, "error_in_exec", None)
        if active is not None and isinstance(error, Exception):
            active.failures.record(error, handled=False, captured_by="notebook")

    def make(before: Any) -> Any:
        def init_events(shell: Any) -> None:
            before(shell)
            shell.events.register("post_run_cell", ran)

        return init_events

    patches.put(module.InteractiveShell, "init_events", make)


def install_gevent(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Report the exception that ends a greenlet which nobody waits for."""

    @guarded
    def see(context: Any, error: Any) -> None:
        active = _active()
        if (
            active is not None
            and isinstance(error, BaseException)
            and not isinstance(error, SystemExit | KeyboardInterrupt)
        ):
            if type(error).__name__ == "GreenletExit":
                return
            name = getattr(context, "name", "") or type(context).__name__
            active.failures.record(
                error, handled=False, captured_by="greenlet", attributes={"thread.name": short(str(name))}
            )

    def make(before: Any) -> Any:
        def handle_error(hub: Any, context: Any, kind: Any, value: Any, traceback: Any) -> Any:
            if isinstance(value, BaseException) and value.__traceback__ is None:
                value.__traceback__ = traceback
            see(context, value)
            return before(hub, context, kind, value, traceback)

        return handle_error

    patches.put(module.Hub, "handle_error", make)
