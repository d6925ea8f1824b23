"""gRPC's servers, threaded and asynchronous: each call of a method is a run, streams for as long as they go on.

Each server is given an interceptor, which is gRPC's own way of being watched.
"""

from __future__ import annotations

import inspect
from collections.abc import AsyncIterator, Callable, Iterator
from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING, Any, Final

from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.instruments.web_servers import Watched, begin
from obitus.client.patches import Patches
from obitus.client.scope import ended_by

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

# Codes that are errors of the server (OpenTelemetry's semantic conventions for gRPC, server spans).
_FAILED: Final = frozenset({"UNKNOWN", "DEADLINE_EXCEEDED", "UNIMPLEMENTED", "INTERNAL", "UNAVAILABLE", "DATA_LOSS"})
_KINDS: Final = {
    (False, False): "unary_unary",
    (False, True): "unary_stream",
    (True, False): "stream_unary",
    (True, True): "stream_stream",
}


def install(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Give each server of threads an interceptor, in front of the app's own."""

    class Interceptor(module.ServerInterceptor):  # type: ignore[misc,name-defined]
        def intercept_service(self, continuation: Any, details: Any) -> Any:
            return _watched(module, continuation(details), details)

    patches.put(module, "server", lambda before: _with_interceptor(before, Interceptor()))


def install_aio(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Give each asynchronous server an interceptor, in front of the app's own."""
    grpc = import_module("grpc")

    class Interceptor(module.ServerInterceptor):  # type: ignore[misc,name-defined]
        async def intercept_service(self, continuation: Any, details: Any) -> Any:
            return _watched(grpc, await continuation(details), details)

    patches.put(module, "server", lambda before: _with_interceptor(before, Interceptor()))


def _with_interceptor(before: Callable[..., Any], interceptor: Any) -> Callable[..., Any]:
    def server(pool: Any = None, handlers: Any = None, interceptors: Any = None, *args: Any, **options: Any) -> Any:
        return before(pool, handlers, (interceptor, *(interceptors or ())), *args, **options)

    return server


def _watched(module: ModuleType, handler: Any, details: Any) -> Any:
    """Return a handler that calls this one as a run; itself where there is nothing to watch."""
    reporter = active_reporter()
    if handler is None or reporter is None:
        return handler
    kind = _KINDS[bool(handler.request_streaming), bool(handler.response_streaming)]
    behavior = getattr(handler, kind)
    if getattr(behavior, "experimental_non_blocking", False):
        # It answers with calls of its own, at any time.
        return handler

    def begun(context: Any) -> _Call | None:
        return _begin(module, reporter, details, context)

    make = getattr(module, f"{kind}_rpc_method_handler")
    behave = _in_the_same_way(behavior, begun, streams=bool(handler.response_streaming))
    return make(behave, handler.request_deserializer, handler.response_serializer)


def _in_the_same_way(
    behavior: Callable[..., Any], begun: Callable[[Any], _Call | None], *, streams: bool
) -> Callable[..., Any]:
    """Return a wrapper of the same kind (async or not, generator or not): the asynchronous server checks that."""
    if inspect.isasyncgenfunction(behavior):

        async def streamed(request: Any, context: Any) -> AsyncIterator[Any]:
            with begun(context) or _UNWATCHED:
                async for answer in behavior(request, context):
                    yield answer

        return streamed
    if inspect.iscoroutinefunction(behavior):

        async def awaited(request: Any, context: Any) -> Any:
            with begun(context) or _UNWATCHED:
                return await behavior(request, context)

        return awaited
    if streams:

        def yielded(request: Any, context: Any) -> Iterator[Any]:
            context = _with_code(context)
            with begun(context) or _UNWATCHED:
                yield from behavior(request, context)

        return yielded

    def called(request: Any, context: Any) -> Any:
        context = _with_code(context)
        with begun(context) or _UNWATCHED:
            return behavior(request, context)

    return called


def _with_code(context: Any) -> Any:
    """Return a context that knows the code that was set, unlike that of a function without ``async``."""
    return context if hasattr(context, "code") else _Noting(context)


class _Noting:
    """The context of a function without ``async`` in an asynchronous server; notes the code that is set."""

    def __init__(self, context: Any) -> None:
        self._context = context
        self._code: Any = None

    def __getattr__(self, name: str) -> Any:
        return getattr(self._context, name)

    def code(self) -> Any:
        return self._code

    def set_code(self, code: Any) -> None:
        self._context.set_code(code)
        self._code = code

    def abort(self, code: Any, *args: Any, **kwargs: Any) -> None:
        self._code = code
        self._context.abort(code, *args, **kwargs)


@guarded
def _begin(module: ModuleType, reporter: Reporter, details: Any, context: Any) -> _Call | None:
    headers = dict(details.invocation_metadata or ())
    watched = begin(reporter, "GRPC", details.method, headers, context.peer())
    if watched is None:
        return None
    watched.run.route = details.method
    return _Call(module, watched, context)


class _Call:
    """One call while it is answered: a ``with`` block around what answers it."""

    def __init__(self, module: ModuleType, watched: Watched, context: Any) -> None:
        self._module, self._watched, self._context = module, watched, context

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, traceback: Any) -> None:
        outcome = self._outcome(error)
        self._watched.end(None, outcome or ("ok" if error is None else "failed"))

    @guarded
    def _outcome(self, error: BaseException | None) -> str:
        """Return how the call ended; report what ended it."""
        watched, code = self._watched, self._code()
        if code:
            watched.run.attach("rpc.response.status_code", code)
        outcome = "ok" if not code else "failed" if code in _FAILED else "refused"
        if error is None:
            return outcome if self._is_asked_for() else "refused"
        if not _is_abort(error, code):
            watched.record(error, "grpc")
            return ended_by(error)
        if outcome == "failed" and error.__context__ is not None:
            # The app aborted because of the exception that it was handling.
            watched.record(error.__context__, "grpc")
        return outcome

    def _is_asked_for(self) -> bool:
        """Whether the caller still waits; an asynchronous server cancels the call by itself."""
        look = getattr(self._context, "is_active", None)
        return look is None or bool(look())

    def _code(self) -> str:
        """Return the name of the code that the app has set, empty where it has set none or OK."""
        code = self._context.code()
        for status_code in self._module.StatusCode:
            if code == status_code or code == status_code.value[0]:
                return "" if status_code is self._module.StatusCode.OK else str(status_code.name)
        return ""


class _Unwatched:
    def __enter__(self) -> None:
        return None

    def __exit__(self, *details: object) -> None:
        return None


_UNWATCHED: Final = _Unwatched()


def _is_abort(error: BaseException, code: str) -> bool:
    """Whether this is what ``context.abort`` raises to leave the handler: it has no message and no class of its own."""
    return bool(code) and (type(error).__name__ == "AbortError" or (type(error) is Exception and not error.args))
