"""Django, both ways: the route that was found, and what the handlers caught before any server sees it."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.instruments.databases import quiet, tell
from obitus.client.instruments.requests import braces
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch Django's base handler and its signal for exceptions."""

    @guarded
    def note_route(match: Any, request: Any) -> None:
        run = runs.current.get()
        if run is not None and reporter.settings.users:
            run.user = lambda: _user_of(request)
        if run is not None and getattr(match, "route", None) is not None:
            run.route = "/" + braces(str(match.route))

    def make(before: Any) -> Any:
        def resolve_request(handler: Any, request: Any) -> Any:
            match = before(handler, request)
            note_route(match, request)
            return match

        return resolve_request

    patches.put(module.BaseHandler, "resolve_request", make)
    from django.core.signals import got_request_exception  # the app has imported Django, so it is loaded already

    def failed(sender: Any, request: Any = None, **_: Any) -> None:
        import sys

        error = sys.exc_info()[1]
        active = active_reporter()
        if active is not None and isinstance(error, Exception):
            active.failures.record(error, handled=False, captured_by="django")

    got_request_exception.connect(failed, weak=False, dispatch_uid="obitus")


def install_statements(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch Django's own cursors: some of them bypass the watched driver."""

    def one(before: Any) -> Any:
        def _execute(cursor: Any, sql: Any, params: Any, *more: Any) -> Any:
            return _watched(cursor, sql, None, lambda: before(cursor, sql, params, *more))

        return _execute

    def many(before: Any) -> Any:
        def _executemany(cursor: Any, sql: Any, param_list: Any, *more: Any) -> Any:
            times = len(param_list) if hasattr(param_list, "__len__") else None
            return _watched(cursor, sql, times, lambda: before(cursor, sql, param_list, *more))

        return _executemany

    patches.put(module.CursorWrapper, "_execute", one)
    patches.put(module.CursorWrapper, "_executemany", many)


def _watched(cursor: Any, sql: Any, times: int | None, act: Any) -> Any:
    reporter = active_reporter()
    if reporter is None:
        return act()
    system = str(getattr(cursor.db, "vendor", ""))
    started_s = reporter.timer()
    with quiet():
        try:
            answer = act()
        except Exception as error:
            tell(reporter, sql, started_s, system=system, times=times, error=error)
            raise
    tell(reporter, sql, started_s, system=system, rows=getattr(cursor.cursor, "rowcount", None), times=times)
    return answer


def _user_of(request: Any) -> Any:
    """Return the key of the user, where the app has loaded it: it is not loaded for this."""
    user = getattr(request, "__dict__", {}).get("_cached_user")
    if user is None:
        user_held = getattr(request, "__dict__", {}).get("user")
        # A lazy object that is not loaded yet would query the database.
        user = user_held.__dict__.get("_wrapped") if type(user_held).__name__ == "SimpleLazyObject" else user_held
    return getattr(user, "pk", None) if getattr(user, "is_authenticated", False) is True else None
