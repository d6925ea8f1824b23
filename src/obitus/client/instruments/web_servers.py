"""Servers and frameworks with protocols of their own: a run for each request, a failure for each exception answered with 500.

Tornado, aiohttp, Sanic, and the standard library's own server. Frameworks on WSGI and ASGI have the middleware.
"""

from __future__ import annotations

import re
import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.active import active_reporter
from obitus.client.guard import guarded, without_ours
from obitus.client.instruments import requests, routes
from obitus.client.patches import Patches
from obitus.client.scope import RunScope, ended_by
from obitus.core.bounds import kept, medium, short
from obitus.core.entry_points import entry_point

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


_PARAMETER = re.compile(r"<(\w+)(?::[^<>]*)?>")


class Watched:
    """One request in progress, whatever serves it."""

    def __init__(
        self, reporter: Reporter, method: str, path: str, headers: Any, client: str = "", url: str = ""
    ) -> None:
        self._method, self._path, self._headers, self._client, self._url = method, path, headers, client, url
        self.status = 0
        given = headers.get("traceparent") if headers is not None else None
        self._scope = RunScope(reporter, entry_point(method, path), "server", traceparent=given)
        self.run = self._scope.run
        self.run.entry_point_now, self.run.resolve = self._entry_point, self._resolve

    def record(self, error: BaseException, captured_by: str) -> None:
        """An exception was raised for which the framework answers."""
        if ended_by(error) == "failed":
            self.status = self.status or 500
            self._scope.record(error, captured_by=captured_by)

    @guarded
    def end(self, status: int | None = None, outcome: str | None = None) -> None:
        """The request was answered."""
        if self._scope.is_over:
            return
        self.status = status or self.status
        outcome = outcome or ("failed" if self.run.outcome == "failed" else None)
        self._scope.finish(outcome or requests.outcome_of(self.status, requests.FAILED_STATUSES), self.status or None)

    def _entry_point(self) -> str:
        return routes.point_of(self._method, self.run.route or "", self._path, self.status)

    def _resolve(self) -> None:
        pairs = list(self._headers.items())[: requests.MOST_HEADERS] if self._headers is not None else []
        part: dict[str, Any] = {
            "method": short(self._method),
            "route": medium(self.run.route or ""),
            "url": kept(self._url or self._path),
            "headers": [[short(str(name).lower()), str(value)[: requests.MOST_HEADER_CHARS]] for name, value in pairs],
            "client": short(self._client),
        }
        query = (self._url or self._path).partition("?")[2]
        if query:
            part["query"] = requests.pairs(kept(query))
        if self.status:
            part["status"] = self.status
        self.run.request = part


@guarded
def begin(reporter: Reporter, method: Any, path: Any, headers: Any, client: Any = "", url: Any = "") -> Watched | None:
    """Begin a request's run, unless a middleware around it began one."""
    around = runs.current.get()
    if around is not None and around.resolve is not None:
        return None
    return Watched(reporter, str(method), str(path), headers, str(client or ""), str(url))


def install_tornado(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch Tornado's request handlers: their methods for errors and for the end of a request."""
    attribute = "_obitus_request"

    def executing(before: Any) -> Any:
        async def _execute(handler: Any, *args: Any, **kwargs: Any) -> Any:
            active = active_reporter()
            request = handler.request
            watched = (
                begin(active, request.method, request.path, request.headers, request.remote_ip, request.full_url())
                if active is not None
                else None
            )
            if watched is None:
                return await before(handler, *args, **kwargs)
            handler.__dict__[attribute] = watched
            _note_tornado(handler, args[1:], kwargs)
            try:
                return await before(handler, *args, **kwargs)
            finally:
                watched.end(handler.get_status())

        return _execute

    def logging(before: Any) -> Any:
        def log_exception(handler: Any, kind: Any, error: Any, traceback: Any) -> None:
            watched = handler.__dict__.get(attribute)
            status = getattr(error, "status_code", 500)
            if watched is not None and isinstance(error, BaseException) and status >= 500:
                watched.record(error, "tornado")
            before(handler, kind, error, traceback)

        return log_exception

    patches.put(module.RequestHandler, "_execute", executing)
    patches.put(module.RequestHandler, "log_exception", logging)


@guarded
def _note_tornado(handler: Any, positional: tuple[Any, ...], named: dict[str, Any]) -> None:
    """Replace the route's parameters in the path by their names."""
    path = str(handler.request.path)
    parameters = [*named.items(), *((str(i), value) for i, value in enumerate(positional))]
    parts = path.split("/")
    for name, value in parameters:
        text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
        parts = [f"{{{name}}}" if part == text and text else part for part in parts]
    routes.note("/".join(parts))


def install_aiohttp(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch aiohttp's server applications."""

    def handling(before: Any) -> Any:
        async def _handle(app: Any, request: Any) -> Any:
            active = active_reporter()
            watched = (
                begin(active, request.method, request.path, request.headers, request.remote, request.url)
                if active is not None
                else None
            )
            if watched is None:
                return await before(app, request)
            try:
                answer = await before(app, request)
            except BaseException as error:
                _note_aiohttp(request, watched)
                status = getattr(error, "status", None)
                if isinstance(status, int) and hasattr(error, "headers"):
                    # The framework answers by raising these.
                    watched.end(status)
                else:
                    watched.record(error, "aiohttp")
                    watched.end(watched.status or None, ended_by(error))
                raise
            _note_aiohttp(request, watched)
            watched.end(getattr(answer, "status", None))
            return answer

        return _handle

    patches.put(module.Application, "_handle", handling)


@guarded
def _note_aiohttp(request: Any, watched: Watched) -> None:
    resource = getattr(getattr(request.match_info, "route", None), "resource", None)
    template = getattr(resource, "canonical", None)
    if isinstance(template, str):
        watched.run.route = requests.braces(template)


def install_sanic(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Give each Sanic application middleware of its own kind. Its methods are not replaced: it compiles them again."""
    from importlib import import_module

    attribute = "_obitus_request"

    async def begun(request: Any) -> None:
        active = active_reporter()
        if active is not None:
            request.ctx.__dict__[attribute] = begin(
                active, request.method, request.path, request.headers, request.ip, request.url
            )
            _note_sanic(request)

    async def ended(request: Any, response: Any) -> None:
        watched = request.ctx.__dict__.pop(attribute, None)
        if watched is not None:
            watched.end(getattr(response, "status", None))

    def starting(before: Any) -> Any:
        def __init__(app: Any, *args: Any, **kwargs: Any) -> None:
            before(app, *args, **kwargs)
            app.register_middleware(begun, "request", priority=1000)
            app.register_middleware(ended, "response", priority=-1000)

        return __init__

    def failing(before: Any) -> Any:
        def response(handler: Any, request: Any, exception: BaseException) -> Any:
            watched = request.ctx.__dict__.get(attribute) if request is not None else None
            if watched is not None and getattr(exception, "status_code", 500) >= 500:
                watched.record(exception, "sanic")
            return before(handler, request, exception)

        return response

    patches.put(module.Sanic, "__init__", starting)
    patches.put(import_module("sanic.handlers").ErrorHandler, "response", failing)


@guarded
def _note_sanic(request: Any) -> None:
    template = getattr(request, "uri_template", None)
    if isinstance(template, str):
        # In Sanic the name comes before the type.
        routes.note(_PARAMETER.sub(r"{\1}", template))


def install_http_server(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the request handlers of the standard library's server, once they have read the request's head."""
    attribute = "_obitus_request"

    def one(before: Any) -> Any:
        def handle_one_request(handler: Any) -> None:
            try:
                before(handler)
            except BaseException as error:
                watched = handler.__dict__.pop(attribute, None)
                if watched is not None:
                    watched.record(error, "http.server")
                    watched.end(None, ended_by(error))
                raise
            watched = handler.__dict__.pop(attribute, None)
            if watched is not None:
                watched.end()

        return handle_one_request

    def parsing(before: Any) -> Any:
        def parse_request(handler: Any) -> Any:
            good = before(handler)
            active = active_reporter()
            if good and active is not None and _serves_by_itself(handler):
                path = str(handler.path)
                bare = path.partition("?")[0]
                watched = begin(active, handler.command, bare, handler.headers, handler.client_address[0], path)
                if watched is not None:
                    handler.__dict__[attribute] = watched
            return good

        return parse_request

    def answering(before: Any) -> Any:
        def send_response(handler: Any, code: Any, *args: Any, **kwargs: Any) -> Any:
            watched = handler.__dict__.get(attribute)
            if watched is not None:
                watched.status = int(code)
            return before(handler, code, *args, **kwargs)

        return send_response

    patches.put(module.BaseHTTPRequestHandler, "handle_one_request", one)
    patches.put(module.BaseHTTPRequestHandler, "parse_request", parsing)
    patches.put(module.BaseHTTPRequestHandler, "send_response", answering)


def _serves_by_itself(handler: Any) -> bool:
    """Whether a handler answers by methods of its own; a handler that calls a WSGI app has the middleware."""
    server = handler.server
    return not (hasattr(handler, "run_wsgi") or hasattr(server, "get_app") or hasattr(server, "app"))


def install_socketserver(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Report exceptions that a server of the standard library prints before it continues."""

    def make(before: Any) -> Any:
        def handle_error(server: Any, request: Any, client_address: Any) -> None:
            error = sys.exc_info()[1]
            active = active_reporter()
            if active is not None and isinstance(error, Exception):
                active.failures.record(error, handled=False, captured_by="socketserver")
                without_ours(error, error.__traceback__)
            before(server, request, client_address)

        return handle_error

    patches.put(module.BaseServer, "handle_error", make)
