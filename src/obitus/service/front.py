"""Middleware for every route: a bound on each body, delays for senders with many refusals, who asks, strict headers
on every answer. No body is read before its sender is known, except for signing in, whose bodies are small.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from typing import Any, Final

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from obitus.service.addresses import address_of
from obitus.service.pacing import Pace
from obitus.service.problems import Problem, fault
from obitus.service.refusal_delays import Patience
from obitus.service.settings import Limits

_LONG_BODIES: Final = re.compile(r"/reports|/page|/v1/(?:logs|traces)|/api/apps/[^/]{1,100}/(?:commits/.{1,1000}|maps)")
"""Routes that bound their bodies themselves: these are large, and compressed."""
_FILES: Final = re.compile(
    r"/api/issues/[0-9]{1,20}/attachments|/api/apps/[^/]{1,100}/owners(?:/preview)?|/api/alert-rules/apply"
)
"""Routes that receive a person's file."""
_SENDERS: Final = ("/reports", "/page", "/v1/")
"""Routes for reports."""
PERSON: Final = "obitus.person"
"""Key of the request's scope for the person, None for a reporting key."""
SIGN_IN: Final = "/api/sign-in"
METRICS: Final = "/metrics"
LINK: Final = "/api/alert-link"
"""Routes of links in messages, which contain a secret that works once."""
_TURNED_AWAY: Final = frozenset({400, 401, 403, 404, 405, 408, 413, 415, 421, 429})
OPEN: Final = frozenset(
    {
        SIGN_IN,
        *(f"{SIGN_IN}/{way}" for way in ("invited", "ways", "openid", "openid/back")),
        LINK,
        f"{LINK}/use",
        "/api/openapi.json",
    }
)
"""Routes that need no sign-in."""
Who = Callable[[Scope], Awaitable[Any]]


class Front:
    """Middleware around the whole application; ``who`` says who asks, or raises a problem."""

    def __init__(self, app: ASGIApp, limits: Limits, who: Who, patience: Patience) -> None:
        self._app, self._limits, self._who, self._patience = app, limits, who, patience
        self._pace = Pace()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request; every error becomes a problem."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        request = _Request(scope, receive, send, self._limits, self._patience)
        try:
            request.check_announced()
            path = scope["path"]
            if path.startswith(_SENDERS):
                self._pace.sent()
            elif path.startswith("/api/"):
                await self._pace.turn(address_of(scope))
            if path == METRICS or (path.startswith("/api/") and path not in OPEN):
                scope[PERSON] = await self._who(scope)
            await self._app(scope, request.receive, request.send)
        except Problem as problem:
            await request.answer(problem)
        except Exception as error:
            # Where the framework has answered already, it has logged it too.
            if not request.is_answered:
                await request.answer(fault(scope["method"], scope["path"], error))


class _Request:
    """One request on its way in, and its answer on the way out."""

    def __init__(self, scope: Scope, receive: Receive, send: Send, limits: Limits, patience: Patience) -> None:
        self._scope, self._receive, self._send, self._limits = scope, receive, send, limits
        self._patience = patience
        path = scope["path"]
        self._bounds_itself = _LONG_BODIES.fullmatch(path) is not None
        is_file = _FILES.fullmatch(path) is not None
        self._most = (
            limits.sign_in_bytes
            if path.startswith((SIGN_IN, LINK))
            else limits.attached_bytes
            if is_file
            else limits.form_bytes
        )
        self._received = 0
        self._ends_s = 0.0
        self._problem: Problem | None = None
        self._started = False
        self._answered = False
        self._whole = False

    def check_announced(self) -> None:
        """Refuse a body whose declared length is too large."""
        announced = next((value for name, value in self._scope["headers"] if name == b"content-length"), b"")
        if not self._bounds_itself and announced.isdigit() and int(announced) > self._most:
            raise self._too_large()

    async def receive(self) -> Message:
        """Pass on the next part of the body, within its bounds."""
        loop = asyncio.get_running_loop()
        self._ends_s = self._ends_s or loop.time() + self._limits.body_seconds
        ends_s = min(self._ends_s, loop.time() + self._limits.body_idle_seconds)
        try:
            # After the whole body, further waiting is for the sender's disconnect.
            async with asyncio.timeout_at(None if self._whole else ends_s):
                message = await self._receive()
        except TimeoutError:
            self._problem = Problem(
                "body-too-slow",
                f"A body may pause for {self._limits.body_idle_seconds:g} s, and take {self._limits.body_seconds:g} s in all. "
                "Send smaller batches.",
            )
            raise self._problem from None
        if message["type"] == "http.request":
            self._received += len(message.get("body", b""))
            self._whole = not message.get("more_body", False)
            if not self._bounds_itself and self._received > self._most:
                self._problem = self._too_large()
                raise self._problem
        return message

    async def send(self, message: Message) -> None:
        """Send a part of the answer, unless the request was refused meanwhile."""
        if self._problem is not None and not self._started:
            # Frameworks answer themselves when reading was interrupted.
            await self.answer(self._problem)
            return
        if self._answered:
            return
        if message["type"] == "http.response.start":
            self._started = True
            if message["status"] in _TURNED_AWAY:
                await self._patience.wait(address_of(self._scope))
            if not self._whole and self._has_body:
                message = {**message, "headers": [*message.get("headers", ()), (b"connection", b"close")]}
        await self._send(message)
        self._answered = message["type"] == "http.response.body" and not message.get("more_body", False)

    async def answer(self, problem: Problem) -> None:
        """Answer with a problem, once, and close where the body was not read completely."""
        if self._answered:
            return
        if self._started:
            # The caller closes the connection, so that the sender does not count the answer as complete.
            raise problem
        self._answered = True
        response = problem.response()
        if response.status_code in _TURNED_AWAY:
            await self._patience.wait(address_of(self._scope))
        if not self._whole and self._has_body:
            response.headers["Connection"] = "close"
        await response(self._scope, self._receive, self._send)

    @property
    def is_answered(self) -> bool:
        """Whether the answer is complete."""
        return self._answered

    @property
    def _has_body(self) -> bool:
        names = dict(self._scope["headers"])
        return b"transfer-encoding" in names or names.get(b"content-length", b"0") != b"0"

    def _too_large(self) -> Problem:
        return Problem("body-too-large", f"The body of this request may have up to {self._most:,} bytes.")
