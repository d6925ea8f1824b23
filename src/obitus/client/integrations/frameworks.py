"""What frameworks on WSGI and ASGI do not put on the request by themselves: routes, and errors they answer for quietly."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.guard import guarded
from obitus.client.integrations import routes
from obitus.client.patches import Patches

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def install_werkzeug(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Note the rule that a URL map matched: in apps on bare Werkzeug, and in Quart, which keeps it to itself."""

    @guarded
    def see(found: Any) -> None:
        routes.note(getattr(found[0], "rule", None))

    def make(before: Any) -> Any:
        def match(matcher: Any, *args: Any, **kwargs: Any) -> Any:
            found = before(matcher, *args, **kwargs)
            see(found)
            return found

        return match

    patches.put(module.StateMachineMatcher, "match", make)


def install_falcon(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Note the template of the route that Falcon chose, both ways."""

    @guarded
    def see(found: Any) -> None:
        routes.note(found[3])

    def make(before: Any) -> Any:
        def _get_responder(app: Any, request: Any) -> Any:
            found = before(app, request)
            see(found)
            return found

        return _get_responder

    patches.put(module.App, "_get_responder", make)


def install_graphql(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Report what resolvers raise: the answer is 200, with the errors in it."""

    @guarded
    def see(error: Any) -> None:
        import obitus

        active = obitus._reporter()
        original = getattr(error, "original_error", None)
        if active is not None and isinstance(original, Exception):
            run = runs.current.get()
            if run is not None:
                run.outcome = "failed"
            path = ".".join(map(str, error.path or ()))
            active.record(original, handled=False, captured_by="graphql", attributes={"graphql.path": path})

    def make(before: Any) -> Any:
        def handle_field_error(context: Any, error: Any, *args: Any, **kwargs: Any) -> Any:
            see(error)
            return before(context, error, *args, **kwargs)

        return handle_field_error

    patches.put(module.ExecutionContext, "handle_field_error", make)
