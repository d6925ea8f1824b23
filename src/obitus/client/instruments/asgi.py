"""ASGI: one run for each request; uncaught exceptions become failures. Works with any ASGI framework."""

from __future__ import annotations

import sys
from collections.abc import Awaitable, Callable, Collection, MutableMapping
from typing import TYPE_CHECKING, Any

from obitus.client import state
from obitus.client.guard import guarded
from obitus.client.instruments import arrived, inside, requests, routes
from obitus.client.instruments.requests import Body
from obitus.client.log import is_ours
from obitus.client.scope import RunScope, ended_by
from obitus.core.bounds import kept, medium, short
from obitus.core.entry_points import entry_point

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

LAST_WORDS_S = 1.0
_WANTED = frozenset((b"traceparent", b"tracestate", b"content-length", b"content-type", b"transfer-encoding"))


class AsgiMiddleware:
    """Watches an ASGI app: ``app.add_middleware(obitus.AsgiMiddleware)``, or wrap the app in it.

    ``user`` is given the scope and returns who asks; ``counts_as_failed`` are those that count as failed (500 to 599);
    of bodies up to ``body_bytes`` are kept, 0 keeps none; ``answer_body`` keeps the answer's too.
    """

    def __init__(
        self,
        app: App,
        *,
        user: Callable[[Scope], Any] | None = None,
        counts_as_failed: Collection[int] = requests.FAILED_STATUSES,
        body_bytes: int = requests.MOST_BODY_BYTES,
        answer_body: bool = False,
    ) -> None:
        self._app = app
        self.user = user
        self.counts_as_failed = counts_as_failed
        self.body_bytes = min(body_bytes, requests.MOST_BODY_BYTES)
        self.answer_body = answer_body

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        reporter: Reporter | None = state.active
        if reporter is None:
            await self._app(scope, receive, send)
        elif _WATCHED in scope:
            # A middleware around an app and another one around what is mounted in it see the same request.
            await self._app(scope, receive, send)
        elif scope["type"] == "http":
            await self._request(reporter, scope, receive, send)
        else:
            await self._other(reporter, scope, receive, send)

    async def _request(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        headers = {name: value for name, value in scope["headers"] if name in _WANTED}
        path = str(scope.get("path", ""))
        opened = _opened(reporter, entry_point(scope["method"], path), headers)
        if opened is None:
            await self._app(scope, receive, send)
            return
        scope[_WATCHED] = True
        watch = _Watch(opened, scope, path, send, self)
        opened.run.entry_point_now, opened.run.resolve = watch.entry_point, watch.resolve
        outcome = "failed"
        try:
            if b"content-length" in headers or b"transfer-encoding" in headers:
                receive = watch.watch_body(receive, headers)
            await self._app(scope, receive, watch.send)
            # Where the app answers nothing, the server does, with a 500 of its own.
            watch.status = watch.status or 500
            outcome = requests.outcome_of(watch.status, self.counts_as_failed)
        except BaseException as error:
            watch.status = watch.status or (500 if ended_by(error) == "failed" else 0)
            outcome = opened.ended_by(error)
            raise
        finally:
            opened.leave()
            answered = scope.get(ANSWERED)
            if isinstance(answered, Answered) and not watch.answered and outcome == "failed":
                # An outer layer answers for the exception, and knows with what status.
                answered.finish = lambda status: watch.finish(outcome, status)
            else:
                watch.finish(outcome, 0)

    async def _other(self, reporter: Reporter, scope: Scope, receive: Receive, send: Send) -> None:
        starting = scope["type"] == "lifespan"
        found = {name: value for name, value in scope.get("headers", ()) if name in _WANTED}
        opened = _opened(reporter, "start-up" if starting else f"{scope['type']} …", found, lasting=True)
        if opened is None:
            await self._app(scope, receive, send)
            return
        run, path = opened.run, str(scope.get("path", ""))

        def route() -> str:
            return run.route or routes.of_scope(scope) or ""

        def resolve() -> None:
            run.request = _request_part(scope, route(), 0, None, None)
            user = requests.ask_user(self.user, scope)
            if user is not None:
                run.attach("user.id", user)

        if not starting:
            run.entry_point_now = lambda: routes.point_of(scope["type"], route(), path, 0)
            run.resolve = resolve
        spoke = False

        async def listening() -> Message:
            nonlocal spoke
            spoke = True
            return await receive()

        async def speaking(message: Message) -> None:
            if starting and str(message["type"]).endswith(".failed"):
                # Before the server writes the traceback, which it is given as text, to its log.
                error = sys.exc_info()[1]
                if error is not None and ended_by(error) == "failed":
                    opened.record(error)
            if starting and str(message["type"]).startswith("lifespan.shutdown."):
                # After this message servers end at once, some by the signal that they were sent: no time is left then.
                await _flush(reporter)
            await send(message)

        outcome = "failed"
        try:
            await self._app(scope, listening, speaking)
            outcome = "ok"
        except BaseException as error:
            outcome = ended_by(error)
            # An app without this protocol raises at once, which servers accept as an answer.
            if outcome == "failed" and (spoke or not starting):
                opened.record(error)
                if starting:
                    # Servers end a process whose start-up or shutdown failed without waiting for anybody.
                    reporter.life.secure()
            raise
        finally:
            opened.leave()
            if not starting:
                opened.finish(outcome)


class _Watch:
    """One request while it goes on."""

    __slots__ = (
        "_early",
        "_look",
        "_middleware",
        "_opened",
        "_path",
        "_receive",
        "_run",
        "_scope",
        "_send",
        "answer",
        "answered",
        "body",
        "status",
    )

    def __init__(self, opened: RunScope, scope: Scope, path: str, send: Send, middleware: AsgiMiddleware) -> None:
        self._opened, self._run, self._scope, self._send, self._middleware = opened, opened.run, scope, send, middleware
        # Parts that the framework moves from the path to the root still belong to the request's path.
        self._path = path
        self._receive: Receive | None = None
        self._early: list[Message] = []
        self.status = 0
        self.answered = False
        self._look: inside.Look | None = None
        self.body: Body | None = None
        self.answer: Body | None = None

    def send(self, message: Message) -> Awaitable[None]:
        """See the answer pass."""
        if message["type"] == "http.response.start":
            self.answered = True
            self.status = message["status"]
            self._begun(message)
            if self.status >= 500:
                # A framework that answers for an exception by itself does so while it handles it.
                error = sys.exc_info()[1]
                if error is not None:
                    self._opened.ended_by(error)
        elif message["type"] == "http.response.body":
            if self.answer is not None:
                self.answer.add(message.get("body", b""))
            if self._look is not None:
                self._look.add(message.get("body", b""))
        return self._send(message)

    @guarded
    def _begun(self, message: Message) -> None:
        types = (value for name, value in message.get("headers", ()) if name.lower() == b"content-type")
        kind = next(types, b"").decode("latin-1")
        if self._middleware.answer_body:
            self.answer = Body(kind, self._middleware.body_bytes)
        if inside.may_hold_one(self.status, kind, str(self._scope.get("path", ""))):
            self._look = inside.Look(kind)

    def finish(self, outcome: str, status: int) -> None:
        """End the run; ``status`` is that of an answer made outside of this, where it is known."""
        self.status = status or self.status
        if self._look is not None:
            outcome = self._look.outcome_of(outcome, self._run)
        self._opened.finish(outcome, self.status or None)

    def _keep(self, message: Message) -> None:
        self._early.insert(0, message)
        if self.body is not None and message["type"] == "http.request":
            self.body.add(message.get("body", b""))

    def watch_body(self, receive: Receive, headers: dict[bytes, bytes]) -> Receive:
        """Return a ``receive`` that keeps a copy of the body's start as the app reads it. Nothing is read before it does."""
        body = self.body = Body(headers.get(b"content-type", b"").decode("latin-1"), self._middleware.body_bytes)
        length = headers.get(b"content-length", b"")
        body.announced = int(length) if length.isdigit() else 0
        self._receive = receive
        early = self._early

        async def passing() -> Message:
            if early:
                return early.pop()
            message = await receive()
            if message["type"] == "http.request":
                body.add(message.get("body", b""))
            return message

        return passing

    def route(self) -> str:
        return self._run.route or routes.of_scope(self._scope) or ""

    def entry_point(self) -> str:
        """Return the route, where it is known by now: the framework puts it into the scope on the way to the handler."""
        return routes.point_of(self._scope["method"], self.route(), self._path, self.status)

    def resolve(self) -> None:
        """Fill in the request as far as it is known by now, and who asks."""
        run, scope = self._run, self._scope
        body, receive = self.body, self._receive
        if body is not None and receive is not None and body.is_unread and run.outcome != "ok" and not is_ours():
            # The unread part of the body, on the request's own thread and where it failed.
            arrived.of_receive(receive, self._keep)
        run.request = _request_part(scope, self.route(), self.status, self.body, self.answer)
        user = requests.ask_user(self._middleware.user, scope)
        if user is not None:
            run.attach("user.id", user)


_WATCHED = "obitus.request"
ANSWERED = "obitus.answered"


class Answered:
    """Put into the scope where a layer outside of the middleware answers for exceptions, as in some frameworks."""

    def __init__(self) -> None:
        self.status = 0
        self.finish: Callable[[int], None] | None = None


async def _flush(reporter: Reporter) -> None:
    import asyncio

    await asyncio.to_thread(reporter.life.flush, LAST_WORDS_S)


@guarded
def _opened(reporter: Reporter, entry_point: str, headers: dict[bytes, bytes], *, lasting: bool = False) -> RunScope:
    traceparent, state_of_trace = headers.get(b"traceparent"), headers.get(b"tracestate")
    return RunScope(
        reporter,
        entry_point,
        "asgi",
        traceparent=None if traceparent is None else traceparent.decode("latin-1"),
        tracestate=None if state_of_trace is None else state_of_trace.decode("latin-1"),
        lasting=lasting,
    )


def _request_part(scope: Scope, route: str, status: int, body: Body | None, answer: Body | None) -> dict[str, Any]:
    headers = [
        [short(name.decode("latin-1")), value.decode("latin-1")[: requests.MOST_HEADER_CHARS]]
        for name, value in scope["headers"][: requests.MOST_HEADERS]
    ]
    host = next((value for name, value in headers if name == "host"), "")
    query = scope.get("query_string", b"").decode("latin-1")
    part: dict[str, Any] = {
        "method": short(str(scope.get("method", ""))),
        "route": medium(route),
        "url": kept(f"{scope.get('scheme', 'http')}://{host}{scope.get('path', '')}{'?' + query if query else ''}"),
        "headers": headers,
        "client": short(str((scope.get("client") or ("",))[0])),
    }
    if query:
        part["query"] = requests.pairs(kept(query))
    if status:
        part["status"] = status
    for name, taken_body in (("body", body), ("answer_body", answer)):
        shown = taken_body.as_report() if taken_body is not None else None
        if shown is not None:
            part[name] = shown
    return part
