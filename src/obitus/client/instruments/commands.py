"""Click and Typer: each command is a run. A usage error is refused, not failed."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.guard import guarded
from obitus.client.patches import Patches
from obitus.client.scope import RunScope
from obitus.core.bounds import short

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the commands that do something."""
    refusing = tuple(
        kind
        for name in ("ClickException", "Abort")
        if isinstance(kind := getattr(module, name, None) or getattr(_exceptions(module), name, None), type)
    )
    leaving = getattr(_exceptions(module), "Exit", None)

    @guarded
    def begun(command: Any, context: Any) -> RunScope | None:
        # A group only calls one of its commands.
        if hasattr(command, "resolve_command"):
            return None
        return RunScope(reporter, short(f"command {context.command_path}"), "command")

    def make(before: Any) -> Any:
        def invoke(command: Any, context: Any) -> Any:
            scope = begun(command, context)
            if scope is None:
                return before(command, context)
            outcome = "failed"
            try:
                answer = before(command, context)
                outcome = "ok"
                return answer
            except Exception as error:
                if refusing and isinstance(error, refusing):
                    outcome = "refused"
                elif leaving is not None and isinstance(error, leaving):
                    outcome = "ok" if not getattr(error, "exit_code", 0) else "failed"
                else:
                    scope.record(error, severity="FATAL")
                raise
            except SystemExit as error:
                outcome = "ok" if error.code in (None, 0) else "failed"
                if outcome == "failed" and reporter.settings.exits:
                    scope.record(error, severity="FATAL")
                raise
            finally:
                scope.finish(outcome)

        return invoke

    patches.put(module.Command, "invoke", make)


def _exceptions(module: ModuleType) -> Any:
    from importlib import import_module

    return import_module(module.__name__.rpartition(".")[0] + ".exceptions")
