"""Outgoing HTTP: a breadcrumb for each call, and the trace passed on. urllib, urllib3 (and requests), httpx, aiohttp."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit, urlunsplit

from obitus.client import runs, state
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.log import is_ours
from obitus.client.patches import Patches
from obitus.core.bounds import medium

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

# One library is built on another (requests on urllib3), and retries call themselves: the outermost call counts.
_inside = state.in_call


class _Call:
    """One outgoing call while it goes on."""

    __slots__ = ("_method", "_reporter", "_started_s", "_token", "_url", "status")

    def __init__(self, reporter: Reporter, method: Any, url: str) -> None:
        self._reporter = reporter
        self._method = str(method or "GET").upper()[:20]
        self._url = url
        self._started_s = reporter.timer()
        self._token = _inside.set(True)
        self.status: int | None = None

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, traceback: Any) -> None:
        try:
            _inside.reset(self._token)
        except ValueError as interrupted:
            if is_the_apps(interrupted):
                raise
            # It ends in another context than the one in which it began.
            _inside.set(False)
        self._tell(error)

    @guarded
    def _tell(self, error: BaseException | None) -> None:
        status = self.status
        took_ms = round((self._reporter.timer() - self._started_s) * 1000, 1)
        data: dict[str, Any] = {"http.request.method": self._method, "url.full": self._url, "duration_ms": took_ms}
        parts = urlsplit(self._url)
        bare = f"{parts.hostname or ''}{f':{parts.port}' if parts.port else ''}{parts.path}"
        if error is not None:
            data["exception.type"] = type(error).__qualname__
            outcome, severity = f"no answer ({type(error).__name__})", "ERROR"
        else:
            data["http.response.status_code"] = status
            outcome, severity = (
                str(status),
                "ERROR" if (status or 0) >= 500 else "WARN" if (status or 0) >= 400 else "INFO",
            )
        self._reporter.runs.breadcrumb("http", f"{self._method} {bare} → {outcome}", severity, data)


@guarded
def _begin(reporter: Reporter, method: Any, url: Any) -> _Call | None:
    if _inside.get() or is_ours():
        return None
    return _Call(reporter, method, medium(_without_user(str(url))))


def _without_user(url: str) -> str:
    try:
        parts = urlsplit(url)
        if "@" in parts.netloc:
            return urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2]))
    except ValueError as interrupted:
        if is_the_apps(interrupted):
            raise
        return "(an address that cannot be read)"
    return url


def trace_headers() -> dict[str, str]:
    """Return the headers to send with calls of the current run (W3C Trace Context)."""
    run = runs.current.get()
    if run is None:
        return {}
    headers = {"traceparent": run.traceparent}
    if run.trace_state:
        headers["tracestate"] = run.trace_state
    return headers


def install_urllib3(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch urllib3's pools, and with them requests."""

    def make(before: Any) -> Any:
        def urlopen(
            pool: Any, method: str, url: str, body: Any = None, headers: Any = None, *more: Any, **options: Any
        ) -> Any:
            call = _begin(reporter, method, _address(pool, url))
            if call is None:
                return before(pool, method, url, body, headers, *more, **options)
            with call:
                answer = before(pool, method, url, body, _joined(pool, headers) or headers, *more, **options)
                call.status = answer.status
            return answer

        return urlopen

    patches.put(module.HTTPConnectionPool, "urlopen", make)


def _address(pool: Any, url: Any) -> str:
    if "://" in str(url):
        return str(url)
    port = f":{pool.port}" if pool.port and pool.port not in (80, 443) else ""
    return f"{pool.scheme}://{pool.host}{port}{url}"


@guarded
def _joined(pool: Any, headers: Any) -> Any:
    sent_headers = dict(pool.headers if headers is None else headers)
    return sent_headers | {name: value for name, value in trace_headers().items() if not _has(sent_headers, name)}


def _has(headers: Any, name: str) -> bool:
    return any(str(key).lower() == name for key in headers)


def install_urllib(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the standard library's own client."""

    def make(before: Any) -> Any:
        def do_open(handler: Any, http_class: Any, request: Any, **options: Any) -> Any:
            call = _begin(reporter, request.get_method(), request.full_url)
            if call is None:
                return before(handler, http_class, request, **options)
            _add_to_urllib(request)
            with call:
                answer = before(handler, http_class, request, **options)
                call.status = answer.status
            return answer

        return do_open

    patches.put(module.AbstractHTTPHandler, "do_open", make)


@guarded
def _add_to_urllib(request: Any) -> None:
    for name, value in trace_headers().items():
        # urllib writes the names of headers with one capital.
        if not request.has_header(name.capitalize()):
            request.add_unredirected_header(name.capitalize(), value)


def install_httpx(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch httpx, both ways."""

    def make(before: Any) -> Any:
        def send(client: Any, request: Any, **options: Any) -> Any:
            call = _begin(reporter, request.method, request.url)
            if call is None:
                return before(client, request, **options)
            _add(request.headers)
            with call:
                answer = before(client, request, **options)
                call.status = answer.status_code
            return answer

        return send

    def make_async(before: Any) -> Any:
        async def send(client: Any, request: Any, **options: Any) -> Any:
            call = _begin(reporter, request.method, request.url)
            if call is None:
                return await before(client, request, **options)
            _add(request.headers)
            with call:
                answer = await before(client, request, **options)
                call.status = answer.status_code
            return answer

        return send

    patches.put(module.Client, "send", make)
    patches.put(module.AsyncClient, "send", make_async)


@guarded
def _add(headers: Any) -> None:
    for name, value in trace_headers().items():
        if name not in headers:
            headers[name] = value


def install_aiohttp(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch aiohttp's client sessions."""

    def make(before: Any) -> Any:
        async def _request(session: Any, method: str, url: Any, **options: Any) -> Any:
            call = _begin(reporter, method, url if "://" in str(url) else f"{session._base_url or ''}{url}")
            if call is None:
                return await before(session, method, url, **options)
            _add_to_options(options)
            with call:
                answer = await before(session, method, url, **options)
                call.status = answer.status
            return answer

        return _request

    patches.put(module.ClientSession, "_request", make)


@guarded
def _add_to_options(options: dict[str, Any]) -> None:
    added = trace_headers()
    if added:
        headers: Any = options.get("headers")
        pairs = list(headers.items() if hasattr(headers, "items") else headers or ())
        options["headers"] = pairs + [(n, v) for n, v in added.items() if not _has(dict(pairs), n)]
