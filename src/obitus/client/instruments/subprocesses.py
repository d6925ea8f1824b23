"""Programs that the app starts: what was started, and how it ended."""

from __future__ import annotations

import os
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.log import is_ours
from obitus.client.patches import Patches
from obitus.core.bounds import said

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

_STARTED = "_obitus_started"


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch ``subprocess.Popen``, which everything in that module uses."""

    @guarded
    def began(process: Any, args: Any, error: BaseException | None = None) -> None:
        if is_ours():
            return
        command = _command(args)
        data: dict[str, Any] = {"process.command_args": command}
        if error is not None:
            data["exception.type"] = type(error).__name__
            reporter.runs.breadcrumb("process", f"{_name(command)} could not be started", "ERROR", data)
            return
        data["process.pid"] = process.pid
        reporter.runs.breadcrumb("process", f"{_name(command)} started", "INFO", data)
        process.__dict__[_STARTED] = (reporter.timer(), command)

    @guarded
    def ended(process: Any) -> None:
        status = process.returncode
        started = process.__dict__.pop(_STARTED, None) if status is not None else None
        if started is None:
            return
        took_ms = round((reporter.timer() - started[0]) * 1000, 1)
        how = f"status {status}" if status >= 0 else f"signal {-status}"
        data = {"process.exit.code": status, "duration_ms": took_ms}
        severity = "INFO" if status == 0 else "WARN"
        reporter.runs.breadcrumb("process", f"{_name(started[1])} ended with {how}", severity, data)

    def starting(before: Any) -> Any:
        def __init__(process: Any, args: Any, *more: Any, **options: Any) -> None:
            try:
                before(process, args, *more, **options)
            except Exception as error:
                began(process, args, error)
                raise
            began(process, args)

        return __init__

    def ending(before: Any) -> Any:
        def end(process: Any, *args: Any, **options: Any) -> Any:
            answer = before(process, *args, **options)
            if process.returncode is not None:
                ended(process)
            return answer

        return end

    patches.put(module.Popen, "__init__", starting)
    patches.put(module.Popen, "wait", ending)
    patches.put(module.Popen, "poll", ending)


def _command(args: Any) -> str:
    """Return a command line as text. Redaction finds the secrets in it by the options they follow."""
    if isinstance(args, str | bytes | os.PathLike):
        return said(os.fsdecode(args))
    try:
        return said(" ".join(os.fsdecode(part) for part in list(args)[:40]))
    except TypeError as interrupted:
        if is_the_apps(interrupted):
            raise
        return "?"


def _name(command: str) -> str:
    return command.split(" ", 1)[0].rpartition("/")[2][:100] or "a program"
