"""Obitus: the reporting client's public names.

    import obitus

    obitus.watch()        # settings from OBITUS_URL, OBITUS_KEY, OBITUS_RELEASE

From then on what nobody catches is reported: in the main thread, in threads, and in an ASGI app with
``app.add_middleware(obitus.AsgiMiddleware)``. Nothing here ever raises into the app.
"""

from __future__ import annotations

import atexit as _atexit
from collections.abc import Mapping as _Mapping
from typing import Any as _Any

from obitus.client import settings as _settings
from obitus.client.integrations.asgi import AsgiMiddleware
from obitus.client.reporter import Reporter as _Reporter
from obitus.client.reporter import Run as _Run
from obitus.client.sender import log as _log

__all__ = ["AsgiMiddleware", "attach", "flush", "mark", "record", "run", "stop", "watch"]
__version__ = "0.1.0"

_EXIT_TIMEOUT_S = 2.0
_active: _Reporter | None = None


def watch(
    *,
    url: str | None = None,
    key: str | None = None,
    release: str | None = None,
    environment: str | None = None,
    off: bool | None = None,
    own: tuple[str, ...] = (),
) -> None:
    """Start reporting. What is not given comes from the environment (``OBITUS_URL``, ``OBITUS_KEY``, …).

    ``own`` names modules that are the app's own code although they are installed like libraries. Called again, it
    starts anew with the new settings. With ``OBITUS_OFF=1``, or without an address or a key, nothing is ever reported.
    """
    global _active
    chosen = _settings.load(url=url, key=key, release=release, environment=environment, off=off, own=own)
    if _active is not None:
        stop()
    if chosen.off:
        return
    if chosen.missing is not None:
        _log.warning("Obitus: %s is not set, so nothing is reported. Run `obitus check`.", chosen.missing)
        return
    _use(_Reporter(chosen))


def record(error: BaseException | None = None, **attributes: _Any) -> str | None:
    """Report an exception that the app caught (the one being handled when none is given); return the report's id."""
    if _active is None:
        return None
    if error is None:
        import sys

        error = sys.exc_info()[1]
        if error is None:
            _log.warning("Obitus: record() was called without an exception, and none is being handled.")
            return None
    return _active.record(error, handled=True, captured_by="record", attributes=attributes)


def mark(message: str, **data: _Any) -> None:
    """Leave a breadcrumb in the trail of the current run."""
    if _active is not None:
        _active.breadcrumb("mark", message, "INFO", data)


def attach(attributes: _Mapping[str, _Any] | None = None, /, **more: _Any) -> None:
    """Put attributes on everything the current run reports, e.g. ``attach({"user.id": "p-102"})``."""
    if _active is not None:
        _active.attach({**(attributes or {}), **more})


def run(entry_point: str, **attributes: _Any) -> _Run:
    """Return a unit of work, to be used as ``with obitus.run("job nightly-manifest"):`` or as a decorator."""
    return _Run(entry_point, attributes, _reporter)


def flush(timeout: float = 5.0) -> bool:
    """Wait up to ``timeout`` seconds until everything was sent; return whether it was."""
    return True if _active is None else _active.flush(timeout)


def stop(timeout: float = _EXIT_TIMEOUT_S) -> None:
    """Send what is queued within ``timeout`` seconds, take all hooks away, and stop reporting."""
    global _active
    reporter, _active = _active, None
    if reporter is not None:
        _atexit.unregister(stop)
        reporter.stop(timeout)


def _use(reporter: _Reporter) -> None:
    global _active
    _active = reporter
    _atexit.register(stop)


def _reporter() -> _Reporter | None:
    return _active
