"""Every error is answered as a problem: ours, the store's, the framework's, and unexpected ones."""

from __future__ import annotations

from collections.abc import Callable

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from starlette.exceptions import HTTPException
from starlette.routing import Match, Route

from obitus.service.problems import Problem, as_problem, fault
from obitus.service.routing import SHARED
from obitus.service.wrong_values import wrong_field
from obitus.store.errors import StoreError


def add_handlers(app: FastAPI, nowhere: Callable[[Request], Response]) -> None:
    """Answer every error as a problem: ours, the store's, the framework's, and unexpected ones. For an unknown path
    a person with a browser gets the page ``nowhere`` instead.
    """

    @app.exception_handler(Exception)
    async def _fault(request: Request, error: Exception) -> Response:
        return fault(request.method, request.url.path, error).response()

    @app.exception_handler(Problem)
    async def _problem(_: Request, problem: Problem) -> Response:
        return problem.response()

    @app.exception_handler(StoreError)
    async def _store(_: Request, error: StoreError) -> Response:
        return as_problem(error).response()

    @app.exception_handler(RequestValidationError)
    async def _validation(_: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        place, *path = first["loc"]
        if first["type"] == "json_invalid":
            return Problem("bad-request", "The body is no valid JSON.").response()
        # A field may have no name.
        return wrong_field([place] if path in ([], [""]) else path, first).response()

    @app.exception_handler(HTTPException)
    async def _http(request: Request, error: HTTPException) -> Response:
        if error.status_code == 404 and _is_a_person(request):
            return nowhere(request)
        slug = {404: "not-found", 405: "not-allowed-here"}.get(error.status_code, "bad-request")
        answer = Problem(slug, f"{request.method} {request.url.path}: {error.detail}.").response()
        answer.headers.update(error.headers or {})
        if error.status_code == 405:
            # The framework names only the methods of the first route of that path.
            allowed = {
                method
                for route in app.routes
                if isinstance(route, Route) and route.matches({**request.scope, "method": ""})[0] is not Match.NONE
                for method in route.methods or ()
            }
            answer.headers["Allow"] = ", ".join(sorted(allowed))
        return answer


def _is_a_person(request: Request) -> bool:
    """Whether a person followed a link or typed an address that is not one of the API."""
    wanted = request.headers.get("accept", "")
    return request.method == "GET" and "text/html" in wanted and not request.url.path.startswith(f"/{SHARED}/")
