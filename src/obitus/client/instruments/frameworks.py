"""What frameworks on WSGI and ASGI do not put on the request: routes, and errors that they answer for silently."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.instruments import routes
from obitus.client.instruments.asgi import ANSWERED, Answered
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install_werkzeug(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Note the rule that a URL map matched: in apps on bare Werkzeug, and in Quart, which keeps it to itself."""

    @guarded
    def see(matched: Any) -> None:
        routes.note(getattr(matched[0], "rule", None))

    def make(before: Any) -> Any:
        def match(matcher: Any, *args: Any, **kwargs: Any) -> Any:
            matched = before(matcher, *args, **kwargs)
            see(matched)
            return matched

        return match

    patches.put(module.StateMachineMatcher, "match", make)


def install_falcon(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Note the template of the route that Falcon chose, both ways, and see what it answers 500 for."""

    @guarded
    def fail(error: Any) -> None:
        active = active_reporter()
        if active is not None and isinstance(error, Exception):
            active.failures.record(error, handled=False, captured_by="falcon")

    @guarded
    def see(matched: Any) -> None:
        routes.note(matched[3])

    def make(before: Any) -> Any:
        def _get_responder(app: Any, request: Any) -> Any:
            responder = before(app, request)
            see(responder)
            return responder

        return _get_responder

    def failing(before: Any) -> Any:
        def _python_error_handler(app: Any, request: Any, response: Any, error: Any, params: Any, *more: Any) -> Any:
            # Falcon logs unhandled exceptions and answers 500.
            fail(error)
            return before(app, request, response, error, params, *more)

        return _python_error_handler

    patches.put(module.App, "_get_responder", make)
    patches.put(module.App, "_python_error_handler", failing)


def install_pyramid(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Note the route that Pyramid's mapper found."""

    @guarded
    def see(matched: Any) -> None:
        routes.note(getattr(matched.get("route"), "pattern", None))

    def make(before: Any) -> Any:
        def __call__(mapper: Any, request: Any) -> Any:
            matched = before(mapper, request)
            see(matched)
            return matched

        return __call__

    patches.put(module.RoutesMapper, "__call__", make)


def install_starlette(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Get the status that Starlette's outermost middleware answers for an exception: it is outside of all that an app adds."""

    def make(before: Any) -> Any:
        async def __call__(outermost: Any, scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] != "http" or ANSWERED in scope:
                await before(outermost, scope, receive, send)
                return
            answered = scope[ANSWERED] = Answered()

            async def sending(message: Any) -> None:
                if message["type"] == "http.response.start":
                    answered.status = message["status"]
                await send(message)

            try:
                await before(outermost, scope, receive, sending)
            finally:
                if answered.finish is not None:
                    guarded(answered.finish)(answered.status)

        return __call__

    patches.put(module.ServerErrorMiddleware, "__call__", make)


def install_graphql(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Report what resolvers raise: the answer is 200, with the errors in it."""

    @guarded
    def see(error: Any) -> None:
        active = active_reporter()
        original = getattr(error, "original_error", None) if hasattr(error, "original_error") else error
        if active is not None and isinstance(original, Exception):
            run = runs.current.get()
            if run is not None:
                run.outcome = "failed"
            path = ".".join(map(str, getattr(error, "path", None) or ()))
            active.failures.record(original, handled=False, captured_by="graphql", attributes={"graphql.path": path})

    def make(before: Any) -> Any:
        def handle_field_error(context: Any, error: Any, *args: Any, **kwargs: Any) -> Any:
            see(error)
            return before(context, error, *args, **kwargs)

        return handle_field_error

    # Which of the two classes there is depends on the version.
    for name in ("ExecutionContext", "Executor"):
        kind = getattr(module, name, None)
        if kind is not None and hasattr(kind, "handle_field_error"):
            patches.put(kind, "handle_field_error", make)
