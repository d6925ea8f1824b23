"""ASGI: one run for each request; what nobody caught becomes a failure. Works with any ASGI framework."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection, MutableMapping
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.guard import guarded
from obitus.client.integrations import requests
from obitus.client.integrations.requests import Body
from obitus.core.trace_context import MOST_STATE, read_traceparent

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

LAST_WORDS_S = 1.0
_WANTED = frozenset(
    (b"traceparent", b"tracestate", b"content-length", b"content-type", b"transfer-encoding", b"expect")
)


class AsgiMiddleware:
    """Watches an ASGI app: ``app.add_middleware(obitus.AsgiMiddleware)``, or wrap the app in it.

    ``user`` is given the scope and returns who asks; ``failed_statuses`` are those that count as failed (500 to 599);
    of bodies up to ``body_bytes`` are kept, 0 keeps none; ``answer_body`` keeps the answer's too.
    """

    def __init__(
        self,
        app: App,
        *,
        user: Callable[[Scope], Any] | None = None,
        failed_statuses: Collection[int] = requests.FAILED_STATUSES,
        body_bytes: int = requests.MOST_BODY_BYTES,
        answer_body: bool = False,
    ) -> None:
        self._app = app
        self.user = user
        self.failed_statuses = failed_statuses
        self.body_bytes = min(body_bytes, requests.MOST_BODY_BYTES)
        self.answer_body = answer_body

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        reporter = _active()
        if reporter is None:
            await self._app(scope, receive, send)
        elif scope["type"] == "http":
            await self._request(reporter, scope, receive, send)
        else:
            await self._other(reporter, scope, receive, send)

    async def _request(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        found = {name: value for name, value in scope["headers"] if name in _WANTED}
        run = _new_run(reporter, "", found)
        if run is None:
            await self._app(scope, receive, send)
            return
        watch = _Watch(run, scope, send, self)
        run.resolve = watch.resolve
        token = runs.current.set(run)
        outcome = "failed"
        try:
            if b"content-length" in found or b"transfer-encoding" in found:
                watch.body = Body(found.get(b"content-type", b"").decode("latin-1"), self.body_bytes)
                receive = await _holding(receive, watch.body, found, self.body_bytes)
            await self._app(scope, receive, watch.send)
            outcome = requests.outcome_of(watch.status, self.failed_statuses)
        except Exception as error:
            run.outcome = "failed"
            watch.status = watch.status or 500
            reporter.record(error, handled=False, captured_by="asgi")
            raise
        except BaseException:
            # Cancelled: the client went away, or the server is stopping.
            outcome = "refused"
            raise
        finally:
            runs.leave(token)
            run.entry_point = f"{scope['method']} {run.route or _route(scope) or '(no route)'}"
            reporter.finish(run, outcome, watch.status or None)

    async def _other(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        starting = scope["type"] == "lifespan"
        found = {name: value for name, value in scope.get("headers", ()) if name in _WANTED}
        run = _new_run(reporter, "start-up" if starting else f"{scope['type']} …", found, lasting=True)
        if run is None:
            await self._app(scope, receive, send)
            return

        def resolve() -> None:
            if not starting:
                route = run.route or _route(scope) or ""
                run.entry_point = f"{scope['type']} {route or '(no route)'}"
                run.request = _request_part(scope, route, 0, None, None)
                user = requests.ask_user(self.user, scope)
                if user is not None:
                    run.attach("user.id", user)

        spoke = False

        async def listening() -> Message:
            nonlocal spoke
            spoke = True
            return await receive()

        run.resolve = resolve
        token = runs.current.set(run)
        outcome = "failed"
        try:
            await self._app(scope, listening, send)
            outcome = "ok"
        except Exception as error:
            run.outcome = "failed"
            # An app that does not speak this protocol says so by raising at once: servers take that for an answer.
            if spoke or not starting:
                reporter.record(error, handled=False, captured_by="asgi")
            raise
        except BaseException:
            outcome = "refused"
            raise
        finally:
            runs.leave(token)
            if not starting:
                guarded(resolve)()
                reporter.finish(run, outcome)
        if starting and spoke:
            # Servers that end by the signal they were sent leave no time at exit.
            import asyncio

            await asyncio.to_thread(reporter.flush, LAST_WORDS_S)


class _Watch:
    """One request while it goes on."""

    __slots__ = ("_middleware", "_run", "_scope", "_send", "answer", "body", "status")

    def __init__(self, run: runs.RunState, scope: Scope, send: Send, middleware: AsgiMiddleware) -> None:
        self._run, self._scope, self._send, self._middleware = run, scope, send, middleware
        self.status = 0
        self.body: Body | None = None
        self.answer: Body | None = None

    def send(self, message: Message) -> Awaitable[None]:
        """See the answer pass."""
        if message["type"] == "http.response.start":
            self.status = message["status"]
            if self._middleware.answer_body:
                types = [value for name, value in message.get("headers", ()) if name.lower() == b"content-type"]
                self.answer = Body(types[0].decode("latin-1") if types else "", self._middleware.body_bytes)
        elif self.answer is not None and message["type"] == "http.response.body":
            self.answer.add(message.get("body", b""))
        return self._send(message)

    def resolve(self) -> None:
        """Fill in what is known by now: the framework puts the route into the scope on the way to the handler."""
        run, scope = self._run, self._scope
        route = run.route or _route(scope) or ""
        run.entry_point = f"{scope['method']} {route or '(no route)'}"
        run.request = _request_part(scope, route, self.status, self.body, self.answer)
        user = requests.ask_user(self._middleware.user, scope)
        if user is not None:
            run.attach("user.id", user)


_client: Any = None


def _active() -> Reporter | None:
    global _client
    if _client is None:
        # Not at the top: that module imports this one. And not at each request: this runs for every one.
        import obitus

        _client = obitus
    active: Reporter | None = _client._active
    return active


@guarded
def _new_run(
    reporter: Reporter, entry_point: str, found: dict[bytes, bytes], *, lasting: bool = False
) -> runs.RunState:
    given = found.get(b"traceparent")
    trace = read_traceparent(given.decode("latin-1")) if given is not None else None
    if trace is None:
        return reporter.new_run(entry_point, lasting=lasting)
    run = reporter.new_run(entry_point, trace_id=trace[0], parent_span_id=trace[1], lasting=lasting)
    state = found.get(b"tracestate")
    if state is not None and len(state) <= MOST_STATE:
        run.trace_state = state.decode("latin-1")
    return run


async def _holding(receive: Receive, body: Body, found: dict[bytes, bytes], limit: int) -> Receive:
    """Return a ``receive`` that the app reads the body from, and that keeps a copy of its start.

    A short body is read before the app runs, so that it is there when the app dies. A long or streamed one is only
    looked at as it passes, and so is one whose sender waits to be told to go on (RFC 9110, section 10.1.1).
    """
    length = found.get(b"content-length", b"")
    early: list[Message] = []
    if (
        length.isdigit()
        and requests.may_be_held(found.get(b"content-type", b"").decode("latin-1"), int(length), limit)
        and b"expect" not in found
    ):
        while True:
            message = await receive()
            early.append(message)
            if message["type"] != "http.request":
                break
            body.add(message.get("body", b""))
            if not message.get("more_body", False):
                break
        early.reverse()

    async def passing() -> Message:
        if early:
            return early.pop()
        message = await receive()
        if message["type"] == "http.request":
            body.add(message.get("body", b""))
        return message

    return passing


@guarded
def _route(scope: Scope) -> str:
    """Return the route's template, as the framework names it or worked out from the path's parameters."""
    path = getattr(scope.get("route"), "path", None)
    if isinstance(path, str) and path:
        return requests.braces(str(scope.get("root_path", "")) + path)
    if "endpoint" not in scope:
        return ""
    parts = str(scope.get("path", "")).split("/")
    for name, value in (scope.get("path_params") or {}).items():
        parts = [f"{{{name}}}" if part == str(value) else part for part in parts]
    return "/".join(parts)


def _request_part(scope: Scope, route: str, status: int, body: Body | None, answer: Body | None) -> dict[str, Any]:
    headers = [
        [name.decode("latin-1")[:300], value.decode("latin-1")[: requests.MOST_HEADER_CHARS]]
        for name, value in scope["headers"][: requests.MOST_HEADERS]
    ]
    host = next((value for name, value in headers if name == "host"), "")
    query = scope.get("query_string", b"").decode("latin-1")
    part: dict[str, Any] = {
        "method": str(scope.get("method", ""))[:300],
        "route": route[:2000],
        "url": f"{scope.get('scheme', 'http')}://{host}{scope.get('path', '')}{'?' + query if query else ''}"[:8000],
        "headers": headers,
        "client": str((scope.get("client") or ("",))[0])[:300],
    }
    if query:
        part["query"] = requests.pairs(query[:8000])
    if status:
        part["status"] = status
    for name, held in (("body", body), ("answer_body", answer)):
        shown = held.as_report() if held is not None else None
        if shown is not None:
            part[name] = shown
    return part
