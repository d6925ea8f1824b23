"""The console's files."""

from __future__ import annotations

import html
from importlib import resources
from pathlib import Path
from typing import Final

from fastapi import Request
from fastapi.responses import FileResponse, HTMLResponse, PlainTextResponse, Response

from obitus.core.version import VERSION
from obitus.service.dependencies import TheSettings
from obitus.service.pages.compressed import answer
from obitus.service.problems import Problem
from obitus.service.routing import Router
from obitus.service.settings import Settings

MOST_NAME: Final = 200
_TYPES: Final = {".js": "text/javascript", ".css": "text/css", ".svg": "image/svg+xml", ".woff2": "font/woff2"}
_PACKED_ALREADY: Final = {".woff2"}

router = Router(include_in_schema=False)


def files() -> Path:
    """Return the folder with the built console."""
    return Path(str(resources.files("obitus.service").joinpath("console_files")))


@router.get("/assets/{name}")
def asset(request: Request, name: str) -> Response:
    """Return a built file; its name has a hash of its content, so it never changes."""
    if len(name) > MOST_NAME or "\0" in name:
        raise Problem("not-found", "There is no file of that name.")
    path = files() / "assets" / name
    if path.parent != files() / "assets" or not path.is_file():
        raise Problem("not-found", f"There is no file {name}.")
    forever = {"Cache-Control": "public, max-age=31536000, immutable"}
    media_type = _TYPES.get(path.suffix, "application/octet-stream")
    if path.suffix in _PACKED_ALREADY:
        return FileResponse(path, media_type=media_type, headers=forever)
    return answer(request, path, media_type, forever)


@router.get("/")
@router.get("/sign-in")
@router.get("/issues")
@router.get("/issues/{rest:path}")
@router.get("/shift")
@router.get("/alerts")
@router.get("/alerts/{rest:path}")
@router.get("/now")
@router.get("/now/{rest:path}")
@router.get("/search")
@router.get("/person")
@router.get("/run/{rest:path}")
@router.get("/trace/{rest:path}")
@router.get("/failure/{rest:path}")
@router.get("/user/{rest:path}")
@router.get("/host/{rest:path}")
@router.get("/releases")
@router.get("/releases/{rest:path}")
@router.get("/compare/{rest:path}")
@router.get("/set-up")
@router.get("/set-up/{rest:path}")
def page(settings: TheSettings, rest: str = "") -> Response:
    """Return the console, which draws the page of the address."""
    index = files() / "index.html"
    if not index.is_file():
        return PlainTextResponse("The console is not built. Run `make setup`, then reload.", status_code=503)
    if settings.console_key:
        tag = f'<script src="/browser.js" data-key="{html.escape(settings.console_key)}" data-release="{VERSION}" data-watch></script>'
        watched = index.read_text("utf-8").replace("<head>", f"<head>\n\t\t{tag}", 1)
        return HTMLResponse(watched, headers={"Cache-Control": "no-cache"})
    return FileResponse(index, media_type="text/html", headers={"Cache-Control": "no-cache"})


def nowhere(settings: Settings) -> Response:
    """Return the console for an unknown address: its page says so, and links to others."""
    response = page(settings)
    if response.status_code == 200:
        response.status_code = 404
    return response
