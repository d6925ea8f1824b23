"""Matching a request only with routes that begin like its address.

With hundreds of routes, comparing each with each request takes milliseconds of the event loop, and the first request
would prepare all of them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Final

from fastapi.routing import APIRouter
from starlette.routing import BaseRoute
from starlette.types import Receive, Scope, Send

SHARED: Final = "api"
"""A first word of so many addresses that the second one counts, too."""
_ANY: Final = ""


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
    for one in included.routes:
        yield from _paths(one)


def _key(path: str) -> str:
    """Return the first word of an address, with the second where many share the first; nothing where that is a parameter."""
    words = path.split("/", 3)[1:3]
    said = "/".join(words) if words[:1] == [SHARED] else "".join(words[:1])
    return _ANY if "{" in said else said
