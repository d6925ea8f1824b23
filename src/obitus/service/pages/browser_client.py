"""The client for pages, as one script that a page of any origin may load."""

from __future__ import annotations

from importlib import resources
from pathlib import Path
from typing import Final

from fastapi import Request
from fastapi.responses import Response

from obitus.service.guard import FOR_ALL
from obitus.service.pages.compressed import answer
from obitus.service.problems import Problem
from obitus.service.routing import Router

FRESH_S: Final = 3600
"""How long a browser may cache it."""

router = Router(include_in_schema=False)


@router.get("/browser.js")
def script(request: Request) -> Response:
    """Return the script for a page's head."""
    return _served(request, "browser.js")


@router.get("/obitus.js")
def module(request: Request) -> Response:
    """Return the module."""
    return _served(request, "obitus.js")


@router.get("/sketch.js")
def sketch(request: Request) -> Response:
    """Return the code that makes sketches of the page."""
    return _served(request, "sketch.js")


def _served(request: Request, name: str) -> Response:
    path = Path(str(resources.files("obitus.service").joinpath("browser_files", name)))
    if not path.is_file():
        raise Problem("not-found", "The client for pages is not built. Run `make setup`.")
    headers = {"Cache-Control": f"public, max-age={FRESH_S}", "Access-Control-Allow-Origin": "*"} | FOR_ALL
    return answer(request, path, "text/javascript", headers)
