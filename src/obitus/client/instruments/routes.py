"""The route of a request, from wherever each framework puts it on the request."""

from __future__ import annotations

from collections.abc import Mapping, MutableMapping
from typing import Any, Final

from obitus.client import runs
from obitus.client.guard import guarded
from obitus.client.instruments.requests import braces
from obitus.core.entry_points import entry_point

NO_ROUTE: Final = "(no route)"


def note(route: Any) -> None:
    """Remember the route of the current request, for frameworks that have to be asked for it."""
    run = runs.current.get()
    if run is not None and type(route) is str and route:
        run.route = _rooted(braces(route))


@guarded
def of_environ(environ: Mapping[str, Any]) -> str:
    """Return the route's template of a WSGI request; empty where none is named."""
    # Flask and its kin; Bottle.
    rule = getattr(getattr(environ.get("werkzeug.request"), "url_rule", None), "rule", None)
    if not isinstance(rule, str):
        rule = getattr(environ.get("bottle.route"), "rule", None)
    return _rooted(braces(rule)) if isinstance(rule, str) and rule else ""


@guarded
def of_scope(scope: MutableMapping[str, Any]) -> str:
    """Return the route's template of an ASGI request, from the framework or computed from its parameters."""
    template = scope.get("path_template")
    path = template if isinstance(template, str) else getattr(scope.get("route"), "path", None)
    if isinstance(path, str) and path:
        return braces(str(scope.get("root_path", "")) + path)
    if "endpoint" not in scope:
        return ""
    parts = str(scope.get("path", "")).split("/")
    for name, value in (scope.get("path_params") or {}).items():
        parts = [f"{{{name}}}" if part == str(value) else part for part in parts]
    return "/".join(parts)


def point_of(method: str, route: str, path: str, status: int) -> str:
    """Return the entry point of a request: its route, else its path without what varies.

    Paths without a route can be anything: they are counted together.
    """
    if route:
        return f"{method} {route}"
    return f"{method} {NO_ROUTE}" if status == 404 else entry_point(method, path)


def _rooted(route: str) -> str:
    return route if route.startswith("/") else f"/{route}"
