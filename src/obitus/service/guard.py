"""The strict headers of every answer, and the names under which the service answers."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping
from typing import Final
from urllib.parse import urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from obitus.service.addresses import is_loopback
from obitus.service.problems import Problem
from obitus.service.settings import Settings

CONTENT_POLICY: Final = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'; require-trusted-types-for 'script'; trusted-types svelte-trusted-html"
)
HEADERS: Final = {
    "Content-Security-Policy": CONTENT_POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=()",
}


SECURE_ONLY: Final = {"Strict-Transport-Security": "max-age=31536000"}
"""Added where people reach the service by https: browsers then use only https (RFC 6797)."""
FOR_ALL: Final = {"Cross-Origin-Resource-Policy": "cross-origin"}
"""Header of an answer that pages of other origins may load."""


def _raw(headers: Mapping[str, str]) -> list[tuple[bytes, bytes]]:
    """Return headers in the server's form."""
    return [(name.lower().encode(), value.encode()) for name, value in headers.items()]


_FOR_ALL: Final = _raw(FOR_ALL)
_NOT_KEPT: Final = (b"cache-control", b"no-store")


def _with(strict: list[tuple[bytes, bytes]], given: Iterable[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """Return the headers of an answer with the strict ones in place of its own, except for answers that pages of
    other origins may load."""
    strict_names = {name for name, _ in strict}
    own = [source for source in given if source[0] not in strict_names or source in _FOR_ALL]
    allowed = {name for name, _ in own} & strict_names
    return own + [source for source in strict if source[0] not in allowed]


class Guard:
    """Middleware: answers only under its own names (a foreign name means DNS rebinding), and adds strict headers."""

    def __init__(self, app: ASGIApp, settings: Settings) -> None:
        self._app = app
        self._names = {"localhost", settings.host, urlsplit(settings.url).hostname or ""}
        self._headers = _raw(HEADERS | (SECURE_ONLY if settings.is_https else {}))
        self._any_address = not is_loopback(settings.host)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                strict = self._headers
                if scope["path"].startswith(("/api", "/reports", "/health")):
                    strict = [*strict, _NOT_KEPT]
                message["headers"] = _with(strict, message.get("headers", ()))
            await send(message)

        hosts = [value.decode("latin-1") for name, value in scope["headers"] if name == b"host"]
        host = hosts[0] if len(hosts) == 1 else ", ".join(hosts)
        if len(hosts) > 1 or not self._ours(host):
            problem = Problem("unknown-host", f"This service does not answer under {host[:100]!r}. Set --public-url.")
            await problem.response()(scope, receive, send_with_headers)
            return
        await self._app(scope, receive, send_with_headers)

    def _ours(self, host: str) -> bool:
        try:
            name = urlsplit(f"//{host}").hostname or ""
            if name in self._names:
                return True
            address = ipaddress.ip_address(name)
        except ValueError:
            return False
        # A foreign site can make a name of its own point here, but not a bare address.
        return address.is_loopback or self._any_address
