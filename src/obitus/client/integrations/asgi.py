"""ASGI: one run for each request; what nobody caught becomes a failure. Works with any ASGI framework."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any, Final

from obitus.client import runs
from obitus.client.reporter import Reporter

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

MOST_HEADERS: Final = 60
MOST_HEADER_CHARS: Final = 2000

# W3C Trace Context, section 3.2: version, trace id, parent id, flags.
_TRACEPARENT = re.compile(rb"(?!ff)[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-(?!0{16})([0-9a-f]{16})-[0-9a-f]{2}(?:-.*)?")
# ``{call:int}`` is how some frameworks write ``{call}``.
_CONVERTER = re.compile(r":\w+\}")


class AsgiMiddleware:
    """Watches an ASGI app: ``app.add_middleware(obitus.AsgiMiddleware)``, or wrap the app in it."""

    def __init__(self, app: App) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        from obitus import _reporter

        reporter = _reporter()
        if reporter is None:
            await self._app(scope, receive, send)
        elif scope["type"] == "http":
            await self._request(reporter, scope, receive, send)
        else:
            await self._other(reporter, scope, receive, send)

    async def _request(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        run = reporter.new_run(f"{scope['method']} …", trace_id=_trace_id(scope))
        status = 0

        async def watching_send(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
            await send(message)

        def resolve() -> None:
            # The framework puts the route into the scope on the way to the handler.
            route = _route(scope)
            run.entry_point = f"{scope['method']} {route or '(no route)'}"
            run.request = _request_part(scope, route, status)

        run.resolve = resolve
        token = runs.current.set(run)
        try:
            await self._app(scope, receive, watching_send)
        except Exception as error:
            run.outcome = "failed"
            reporter.record(error, handled=False, captured_by="asgi")
            raise
        finally:
            runs.current.reset(token)

    async def _other(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        entry_point = "start-up" if scope["type"] == "lifespan" else f"{scope['type']} {scope.get('path', '')}"
        run = reporter.new_run(entry_point)
        token = runs.current.set(run)
        try:
            await self._app(scope, receive, send)
        except Exception as error:
            run.outcome = "failed"
            reporter.record(error, handled=False, captured_by="asgi")
            raise
        finally:
            runs.current.reset(token)


def _trace_id(scope: Scope) -> str | None:
    for name, value in scope["headers"]:
        if name == b"traceparent":
            found = _TRACEPARENT.fullmatch(value.strip())
            return found[1].decode() if found else None
    return None


def _route(scope: Scope) -> str:
    """Return the route's template, as the framework names it or worked out from the path's parameters."""
    path = getattr(scope.get("route"), "path", None)
    if isinstance(path, str) and path:
        return _CONVERTER.sub("}", str(scope.get("root_path", "")) + path)
    if "endpoint" not in scope:
        return ""
    parts = str(scope.get("path", "")).split("/")
    for name, value in (scope.get("path_params") or {}).items():
        parts = [f"{{{name}}}" if part == str(value) else part for part in parts]
    return "/".join(parts)


def _request_part(scope: Scope, route: str, status: int) -> dict[str, Any]:
    headers = [
        [name.decode("latin-1")[:300], value.decode("latin-1")[:MOST_HEADER_CHARS]]
        for name, value in scope["headers"][:MOST_HEADERS]
    ]
    host = next((value for name, value in headers if name == "host"), "")
    query = scope.get("query_string", b"").decode("latin-1")
    part: dict[str, Any] = {
        "method": str(scope["method"])[:300],
        "route": route[:2000],
        "url": f"{scope.get('scheme', 'http')}://{host}{scope.get('path', '')}{'?' + query if query else ''}"[:8000],
        "headers": headers,
        "client": str((scope.get("client") or ("",))[0])[:300],
    }
    if status:
        part["status"] = status
    return part
