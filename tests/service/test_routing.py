"""A request is compared with the routes that begin as its address does, and answered as if it were compared with all."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi import APIRouter, FastAPI
from fastapi.testclient import TestClient
from starlette.routing import BaseRoute, Match

from obitus.service.app import make_app
from obitus.service.routing import compare_by_first_words

PATHS = ["/api/berths", "/api/berths/7", "/api/tides", "/health", "/berths", "/anything/at/all"]


def _app(*, quick: bool) -> FastAPI:
    berths, rest, pages = APIRouter(prefix="/api/berths"), APIRouter(), APIRouter()

    @berths.get("")
    @berths.get("/{number}")
    def read(number: int = 0) -> str:
        return f"berth {number}"

    @berths.post("/{number}")
    def change(number: int) -> str:
        return f"changed {number}"

    @rest.get("/api/tides")
    @rest.get("/health")
    def rest_of_it() -> str:
        return "rest"

    @pages.get("/{path:path}")
    def page(path: str) -> str:
        return f"page {path}"

    app = FastAPI()
    for router in (berths, rest, pages):
        app.include_router(router)
    if quick:
        compare_by_first_words(app.router)
    return app


def test_answers_are_the_same() -> None:
    """What there is, what is not there and what may not be done: each answered as without."""
    quick, plain = TestClient(_app(quick=True)), TestClient(_app(quick=False))
    for path in [*PATHS, "/api/nothing", "/api", "/api/berths/x", "/", "/api/berths/7/", "//api/berths"]:
        for method in ("GET", "POST", "DELETE"):
            one, other = quick.request(method, path), plain.request(method, path)
            assert (one.status_code, one.text) == (other.status_code, other.text), (method, path)


@pytest.mark.parametrize("path", ["/health", "/api/live", "/api/issues/7", "/reports", "/issues/7"])
def test_few_routes_are_looked_at(path: str, monkeypatch: Any) -> None:
    """Of all routers of the service a request meets those of its first words and those for any address."""
    met: list[BaseRoute] = []
    routers = make_app().router.routes
    plain = type(routers[0]).matches

    def counted(self: Any, scope: Any) -> Any:
        met.append(self)
        return plain(self, scope)

    monkeypatch.setattr(type(routers[0]), "matches", counted)
    scope: dict[str, Any] = {"type": "http", "path": path, "method": "GET", "headers": [], "query_string": b"", "root_path": ""}  # fmt: skip
    every = [one for one in routers if one.matches(dict(scope))[0] is not Match.NONE]
    assert len(met) == len(routers) > 40 and every
    met.clear()
    TestClient(make_app(), raise_server_exceptions=False).get(path)
    assert 0 < len(met) <= 10
    assert every[0] in met
