"""Routes that leave the event loop alone: it matches a request only with routes that begin like its address, and answers are
turned into JSON where they were computed.

With hundreds of routes, comparing each with each request takes milliseconds of the event loop, and the first request
would prepare all of them.
"""

from __future__ import annotations

import inspect
from collections import defaultdict
from collections.abc import Callable, Iterator
from functools import wraps
from typing import Any, Final

from fastapi.exceptions import ResponseValidationError
from fastapi.routing import APIRoute, APIRouter
from starlette.responses import Response
from starlette.routing import BaseRoute
from starlette.types import Receive, Scope, Send

SHARED: Final = "api"
"""A first word of so many addresses that the second one counts, too."""
_ANY: Final = ""


class Route(APIRoute):
    """A route whose function, where it runs on a thread, returns its answer as JSON. The framework would check the answer on a thread
    again, and turn it into JSON on the event loop: that is two more waits for the interpreter in each request.
    """

    def __init__(self, path: str, endpoint: Callable[..., Any], **settings: Any) -> None:
        if not inspect.iscoroutinefunction(endpoint):
            endpoint = self._with_answer(endpoint)
        super().__init__(path, endpoint, **settings)

    def _with_answer(self, endpoint: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(endpoint)
        def answered(*given: Any, **named: Any) -> Any:
            return self._as_json(endpoint(*given, **named))

        return answered

    def _as_json(self, answer: Any) -> Any:
        field = self.response_field
        if field is None or isinstance(answer, Response):
            return answer
        value, errors = field.validate(answer, {}, loc=("response",))
        if errors:
            raise ResponseValidationError(errors=errors, body=answer)
        return Response(field.serialize_json(value), self.status_code or 200, media_type="application/json")


class Router(APIRouter):
    """A router of such routes."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(route_class=Route, **settings)


def compare_by_first_words(router: APIRouter) -> None:
    """Make a router match each request only with those of its routes that may match, in their order."""
    places: dict[str, set[int]] = defaultdict(set)
    for place, route in enumerate(router.routes):
        for path in _paths(route):
            places[_key(path)].add(place)
    rest = places.pop(_ANY, set())
    alone = {key: _router_of(router, of_key | rest) for key, of_key in places.items()}
    others = _router_of(router, rest)

    async def compared(scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await router.app(scope, receive, send)
            return
        scope.setdefault("router", router)
        await alone.get(_key(scope["path"]), others).app(scope, receive, send)

    router.middleware_stack = compared


def _router_of(router: APIRouter, places: set[int]) -> APIRouter:
    return APIRouter(
        routes=[router.routes[place] for place in sorted(places)], redirect_slashes=router.redirect_slashes
    )


def _paths(route: BaseRoute) -> Iterator[str]:
    """Yield the paths of a route, or of the routes of a router that was included."""
    included = getattr(route, "original_router", None)
    if included is None:
        yield getattr(route, "path", "/{any}")
        return
    for included_route in included.routes:
        yield from _paths(included_route)


def _key(path: str) -> str:
    """Return the first word of an address, with the second where many share the first; nothing where that is a parameter."""
    words = path.split("/", 3)[1:3]
    first = "/".join(words) if words[:1] == [SHARED] else "".join(words[:1])
    return _ANY if "{" in first else first
