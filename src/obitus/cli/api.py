"""Requests to the service."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, Final
from urllib.parse import urlencode

from obitus.cli.errors import Busy, CliError, NotAllowed, NotFound, Refused, Unreachable, UsageTrouble
from obitus.cli.login import Login, find
from obitus.cli.safe import cleaned
from obitus.core.clock import to_text
from obitus.core.version import AWAY_BEHIND_PROXY

if TYPE_CHECKING:
    from urllib3 import BaseHTTPResponse

TIMEOUT_S: Final = 20.0
_WHICH_CONNECTION: Final = re.compile(r"^HTTPS?Connection\(.*?\): ")


class Api:
    """One service, with one token."""

    def __init__(self, login: Login) -> None:
        # Not every command makes requests, and this is slow to import.
        import urllib3

        self.login = login
        self._trouble = urllib3.exceptions.HTTPError
        self._pool = urllib3.PoolManager(retries=False, timeout=urllib3.Timeout(TIMEOUT_S))

    def get(self, path: str, query: Mapping[str, Any] | None = None) -> Any:
        """Return the answer to a reading request; raises a CliError."""
        return self._ask("GET", _asked(path, query), None)

    def stream(
        self, path: str, query: Mapping[str, Any] | None = None, headers: Mapping[str, str] | None = None
    ) -> Iterator[bytes]:
        """Yield the answer to a reading request as it comes; raises a CliError."""
        answer = self._request("GET", _asked(path, query), None, {"Accept": "*/*"} | dict(headers or {}), whole=False)
        if answer.status >= 300:
            self._content(answer)
        try:
            yield from answer.stream(65_536, decode_content=True)
        except (self._trouble, OSError) as error:
            raise Unreachable(f"{self.login.url} broke off: {error}.") from error
        finally:
            answer.close()

    def post(self, path: str, body: Mapping[str, Any]) -> Any:
        """Return the answer to a request that changes something; raises a CliError."""
        return self._ask("POST", path, body)

    def put(self, path: str, body: Mapping[str, Any]) -> Any:
        """Return the answer to a PUT request; raises a CliError."""
        return self._ask("PUT", path, body)

    def patch(self, path: str, body: Mapping[str, Any]) -> Any:
        """Return the answer to a PATCH request; raises a CliError."""
        return self._ask("PATCH", path, body)

    def post_packed(self, path: str, packed: bytes) -> Any:
        """Send JSON compressed with gzip; raises a CliError."""
        return self._ask("POST", path, packed)

    def delete(self, path: str) -> Any:
        """Return the answer to a DELETE request; raises a CliError."""
        return self._ask("DELETE", path, None)

    def _ask(self, method: str, path: str, body: Mapping[str, Any] | bytes | None) -> Any:
        return self._content(self._request(method, path, body, {"Accept": "application/json"}))

    def _request(
        self,
        method: str,
        path: str,
        body: Mapping[str, Any] | bytes | None,
        headers: dict[str, str],
        *,
        whole: bool = True,
    ) -> BaseHTTPResponse:
        headers["User-Agent"] = "obitus-cli"
        if self.login.token:
            headers["Authorization"] = f"Bearer {self.login.token}"
        data = None
        if body is not None:
            headers["Content-Type"] = "application/json"
            data = body if isinstance(body, bytes) else json.dumps(body).encode()
            if isinstance(body, bytes):
                headers["Content-Encoding"] = "gzip"
            headers["Obitus-Clock"] = to_text(time.time_ns() // 1_000_000)
        try:
            return self._pool.request(
                method, self.login.url + path, body=data, headers=headers, redirect=False, preload_content=whole
            )
        except (self._trouble, ValueError) as error:
            # Without the library's own name for the connection.
            reason = _WHICH_CONNECTION.sub("", str(getattr(error, "reason", None) or error))
            raise Unreachable(f"{self.login.url} cannot be reached: {reason}. Is the service running?") from error

    def _content(self, answer: BaseHTTPResponse) -> Any:
        """Return the content of an answer; raises the CliError of its status."""
        try:
            content = cleaned(json.loads(answer.data))
        except ValueError:
            said = (
                f"does not answer: a proxy in front of it says so (status {answer.status}). Is the service running?"
                if answer.status in AWAY_BEHIND_PROXY
                else f"answers, but it is not Obitus (status {answer.status})."
            )
            raise Unreachable(f"{self.login.url} {said}") from None
        if answer.status < 300:
            return content
        detail = str(content.get("detail", f"status {answer.status}")) if isinstance(content, dict) else str(content)
        kinds: dict[int, type[CliError]] = {401: NotAllowed, 403: NotAllowed, 404: NotFound, 429: Busy}
        kind = kinds.get(answer.status, Busy if answer.status >= 500 else Refused)
        if answer.status == 401 and not self.login.token and not str(answer.url).endswith("/api/sign-in"):
            detail = "nobody is signed in. Run `obitus login LINK`, or give --token."
        raise kind(detail)


def _asked(path: str, query: Mapping[str, Any] | None) -> str:
    pairs = [(name, value) for name, value in (query or {}).items() if value not in (None, [])]
    return f"{path}?{urlencode(pairs, doseq=True)}" if pairs else path


def api(url: str | None, token: str | None) -> Api:
    """Return the service from options, environment or login file."""
    return Api(find(url, token))


def pipeline(url: str | None, token: str | None) -> Api | None:
    """Return the service with a reporting key, as in a pipeline; None for a person's token."""
    key = os.environ.get("OBITUS_KEY")
    if not key or token is not None or os.environ.get("OBITUS_TOKEN"):
        return None
    service = url or os.environ.get("OBITUS_URL")
    if not service:
        raise UsageTrouble("OBITUS_KEY is set, but OBITUS_URL is not. Set it to the service's address.")
    return Api(Login(service.rstrip("/"), key))


def app_meant(asked: Api, name: str | None) -> str:
    """Return the app: the named one, or the only one."""
    if name is not None:
        return name
    names = [row["name"] for row in asked.get("/api/apps")["apps"]]
    if len(names) == 1:
        return str(names[0])
    raise UsageTrouble(
        f"Say which app: --app {' | '.join(names)}." if names else "There is no app yet. Add one: obitus app add NAME"
    )
