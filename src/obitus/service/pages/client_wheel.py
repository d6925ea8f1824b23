"""The client as a wheel, made of what is installed here: an app is set up from the service, with no index of packages.

It is made once, the same bytes each time, so that its hash can be shown beside its address. Other than the wheel ``obitus``
that ``make wheel`` builds it holds the command line too: there is nothing that could install another wheel behind it.
"""

from __future__ import annotations

import hashlib
from functools import cache
from importlib import metadata, resources
from pathlib import Path
from typing import Final

from fastapi import APIRouter
from fastapi.responses import Response

from obitus.core.version import VERSION
from obitus.service.pages.wheel_format import name_of_file, wheel_of
from obitus.service.problems import Problem

NAME: Final = name_of_file("obitus", VERSION)
PARTS: Final = ("client", "core", "cli", "reading")

router = APIRouter(include_in_schema=False)


@cache
def wheel() -> bytes:
    """Return the wheel's bytes: the client, what it shares with the service, and the command line as an extra."""
    root = Path(str(resources.files("obitus")))
    files = {f"obitus/{path.name}": path.read_bytes() for path in sorted(root.glob("*.py"))}
    for part in PARTS:
        files |= {
            f"obitus/{path.relative_to(root).as_posix()}": path.read_bytes()
            for path in sorted((root / part).rglob("*.py"))
        }
    head = ["Provides-Extra: cli", *(f"Requires-Dist: {line}; extra == 'cli'" for line in _of_command_line())]
    return wheel_of("obitus", VERSION, files, head, scripts={"obitus": "obitus.cli:main"})


def requirement(url: str, install: str) -> str:
    """Return what ``pip install`` is to be given for a kind of app; empty where nothing is to be installed."""
    if not install:
        return ""
    return f"{install} @ {url.rstrip('/')}/client/{NAME}#sha256={hashlib.sha256(wheel()).hexdigest()}"


@router.get("/client/{name}")
def client(name: str) -> Response:
    """Return the wheel. Anybody may have it: there is nothing in it that is not in every app."""
    if name != NAME:
        raise Problem("not-found", f"There is no {name}. This service has {NAME}.")
    return Response(wheel(), media_type="application/zip", headers={"Cache-Control": "no-cache"})


def _of_command_line() -> list[str]:
    """Return what the command line needs: it is a distribution of its own, or in a checkout an extra of the only one."""
    try:
        lines = metadata.requires("obitus-cli") or []
    except metadata.PackageNotFoundError:
        lines = [line for line in metadata.requires("obitus") or () if "'cli'" in line.replace('"', "'")]
    return [line.partition(";")[0].strip() for line in lines if not line.startswith("obitus")]
