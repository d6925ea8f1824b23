"""Obitus: the reporting client's public names.

    import obitus

    obitus.watch()        # settings from OBITUS_URL, OBITUS_KEY, OBITUS_RELEASE

From then on what nobody catches is reported: in the main thread, in threads, pools, tasks and child processes, and in
web apps behind ``obitus.AsgiMiddleware`` or ``obitus.WsgiMiddleware``. Nothing here ever raises into the app.
"""

from __future__ import annotations

import os as _os
import sys as _sys
from collections.abc import Callable as _Callable
from collections.abc import Mapping as _Mapping
from collections.abc import Sequence as _Sequence
from typing import TYPE_CHECKING as _TYPE_CHECKING
from typing import Any as _Any

from obitus.client import active as _active
from obitus.client import runs as _runs
from obitus.client import state as _state
from obitus.client.exception_origin import is_the_apps as _is_the_apps
from obitus.client.trail import TRIM_AT as _TRIM_AT
from obitus.client.work import Run as _Run
from obitus.core.version import VERSION as _VERSION

if _TYPE_CHECKING:
    from obitus.client.instruments.asgi import AsgiMiddleware
    from obitus.client.instruments.wsgi import WsgiMiddleware

__all__ = [
    "AsgiMiddleware",
    "WsgiMiddleware",
    "attach",
    "flush",
    "mark",
    "record",
    "run",
    "say",
    "status",
    "stop",
    "watch",
    "watched",
]
__version__ = _VERSION

_STOP_TIMEOUT_S = 2.0
_PLAIN = frozenset({str, int, float, bool, type(None)})
_MOST_CHARS = 1000
_LATER = {
    "AsgiMiddleware": "obitus.client.instruments.asgi",
    "WsgiMiddleware": "obitus.client.instruments.wsgi",
}
_current_run = _runs.current.get


def watch(
    *,
    url: str | None = None,
    key: str | None = None,
    release: str | None = None,
    environment: str | None = None,
    off: bool | None = None,
    own: tuple[str, ...] = (),
    logs: str | None = None,
    breadcrumbs: str | None = None,
    leave_out: _Sequence[str] | None = None,
    hide: _Sequence[str] | None = None,
    edit: _Callable[[dict[str, _Any]], dict[str, _Any] | None] | None = None,
    values: bool = True,
    users: bool = True,
    source: bool = True,
    exits: bool = False,
    failures_per_second: float = 25.0,
    spool: str | _os.PathLike[str] | None = None,
    spool_bytes: int = 64 * 1024 * 1024,
    spool_hours: float = 168.0,
    exit_s: float | None = None,
    also: str | None = None,
    tracepoints: bool | _Sequence[str] | None = None,
    tracepoints_share: float = 0.01,
) -> None:
    """Start reporting. What is not given comes from the environment (``OBITUS_URL``, ``OBITUS_KEY``, …).

    Called again, it starts again with the new settings. With ``OBITUS_OFF=1``, or without an address or a key (and no
    file beside it), nothing is ever reported.

    - ``own``: modules that are the app's own code although they are installed like libraries.
    - ``logs``, ``breadcrumbs``: from which severity log records are sent, or become breadcrumbs, by logger:
      ``"WARN, sailings.fares=DEBUG, noisy=off"``.
    - ``leave_out``: kinds of breadcrumbs to leave out, such as ``["statement"]``.
    - ``hide``: redaction rules beside the default ones: ``["name vessel pin", "path request.body.json.card", "e-mail"]``.
    - ``edit``: is given each report before it is redacted, and returns it, changed or not, or None to drop it.
    - ``users``: whether who asks is taken from a framework that knows, such as Django's ``request.user``.
    - ``values``, ``source``: whether local values and source lines are sent.
    - ``exits``: whether leaving with a non-zero status counts as a failure.
    - ``failures_per_second``: how many are captured whole for long; what goes beyond a burst is counted.
    - ``spool``, ``spool_bytes``, ``spool_hours``: where reports wait while the service is away, and how many for how long.
    - ``exit_s``: longest time in seconds that a process which has something to tell takes for it at its end (2).
    - ``tracepoints``: whether people may ask at the service to see the values at a line the next time that it runs;
      or the environments in which they may: ``["staging"]``. They may not unless this says so.
    - ``tracepoints_share``: what they may cost, as a share of one processor (0.01); one that costs more is switched off.
    - ``also``: ``file:/whole/path.ndjson``, a file beside the service, or in its place; ``obitus send`` brings it in later.
    """
    try:
        # Much to load for who imports this and does not report.
        from obitus.client import settings
        from obitus.client.log import warn
    except Exception as trouble:
        if _is_the_apps(trouble):
            raise
        _sys.stderr.write(f"Obitus: nothing is reported ({type(trouble).__name__}: {trouble}).\n")
        return
    try:
        chosen = settings.load(
            url=url,
            key=key,
            release=release,
            environment=environment,
            off=off,
            logs=logs,
            breadcrumbs=breadcrumbs,
            leave_out=leave_out,
            hide=hide,
            spool=spool,
            own=own,
            edit=edit,
            values=values,
            users=users,
            source=source,
            exits=exits,
            failures_per_second=failures_per_second,
            spool_bytes=spool_bytes,
            spool_hours=spool_hours,
            exit_s=exit_s,
            also=also,
            tracepoints=tracepoints,
            tracepoints_share=tracepoints_share,
        )
    except settings.SettingTrouble as trouble:
        # What was to be hidden is not known: then nothing may leave.
        warn(f"Obitus: nothing is reported. {trouble}")
        stop()
        return
    except Exception as trouble:
        if _is_the_apps(trouble):
            raise
        warn(f"Obitus: nothing is reported ({type(trouble).__name__}: {trouble}).")
        return
    if _state.active is not None:
        stop()
    if chosen.off:
        return
    if chosen.missing is not None:
        warn(f"Obitus: {chosen.missing} is not set, so nothing is reported. Run `obitus check`.")
        return
    try:
        from obitus.client.reporter import Reporter

        _active.use(Reporter(chosen))
    except Exception as trouble:
        if _is_the_apps(trouble):
            raise
        warn(f"Obitus: nothing is reported ({type(trouble).__name__}: {trouble}).")


def record(error: BaseException | None = None, /, **attributes: _Any) -> str | None:
    """Report an exception that the app caught (the one being handled when none is given); return the report's id."""
    reporter = _active.active_reporter()
    if reporter is None:
        return None
    if error is None:
        error = _sys.exc_info()[1]
        if error is None:
            from obitus.client.log import warn

            warn("Obitus: record() was called without an exception, and none is being handled.")
            return None
    return reporter.failures.record(error, handled=True, captured_by="record", attributes=attributes)


def say(message: str, /, severity: str = "ERROR", **attributes: _Any) -> str | None:
    """Report a message: from ERROR on as a failure with the stack that leads here, below it as a log record."""
    reporter = _active.active_reporter()
    if reporter is None:
        return None
    return reporter.failures.say(message, severity, attributes, _sys._getframe(1))


def mark(message: str, /, **attributes: _Any) -> None:
    """Leave a breadcrumb in the trail of the current run."""
    reporter = _state.marking
    if reporter is None:
        return
    # Texts and numbers are kept as they are, and put into the report's form when there is a report: this has to be fast.
    for value in attributes.values():
        kind = type(value)
        if (len(value) > _MOST_CHARS) if kind is str else (kind not in _PLAIN):
            reporter.runs.breadcrumb("mark", message, "INFO", attributes)
            return
    run = _current_run()
    trail = reporter.runs.trail if run is None else run.trail
    trail.append(("mark", reporter.base.now_ns(), "INFO", message, attributes))
    if len(trail) > _TRIM_AT:
        trail.trim()


def attach(attributes: _Mapping[str, _Any] | None = None, /, **more: _Any) -> None:
    """Put attributes on everything the current run reports, e.g. ``attach({"user.id": "p-102"})``."""
    reporter = _active.active_reporter()
    if reporter is not None:
        reporter.runs.attach({**(attributes or {}), **more})


def run(entry_point: str, /, **attributes: _Any) -> _Run:
    """Return a unit of work, to be used as ``with obitus.run("job nightly-manifest"):`` or as a decorator."""
    return _Run(entry_point, attributes, _active.active_reporter)


def watched(connection: _Any) -> _Any:
    """Return a DB-API connection (PEP 249) whose statements become breadcrumbs; use it in place of the one given."""
    from obitus.client.instruments.databases import watched as wrap

    return wrap(connection)


def status() -> dict[str, _Any]:
    """Return how reporting goes: whether it is on, what waits, what was sent, dropped and why, the latest trouble."""
    reporter = _active.active_reporter()
    return {"reporting": False} if reporter is None else reporter.status()


def flush(timeout: float = 5.0) -> bool:
    """Wait up to ``timeout`` seconds until everything was sent; return whether it was."""
    reporter = _active.active_reporter()
    return True if reporter is None else reporter.life.flush(timeout)


def stop(timeout: float = _STOP_TIMEOUT_S) -> None:
    """Send what is queued within ``timeout`` seconds, take all hooks away, and stop reporting."""
    reporter = _active.give_up()
    if reporter is not None:
        reporter.life.stop(timeout)


def __getattr__(name: str) -> _Any:
    """Load what wraps an app where it is asked for: commands, and jobs without a web app, do without."""
    if name not in _LATER:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    found = globals()[name] = getattr(import_module(_LATER[name]), name)
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
