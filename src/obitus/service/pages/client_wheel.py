"""The client as a wheel, made from the installed files: an app is set up from the service, without a package index.
It is reproducible, so that its hash can be shown with its address. Unlike the wheel ``obitus`` of ``make wheel`` it
contains the command line too, since no other wheel could be installed with it.
"""

from __future__ import annotations

import hashlib
from functools import cache
from importlib import metadata, resources
from pathlib import Path
from typing import Final

from fastapi.responses import Response

from obitus.core.version import VERSION
from obitus.service.pages.wheel_format import name_of_file, wheel_of
from obitus.service.problems import Problem
from obitus.service.routing import Router

NAME: Final = name_of_file("obitus", VERSION)
PARTS: Final = ("client", "core", "cli", "reading")

router = Router(include_in_schema=False)


@cache
def wheel() -> bytes:
    """Return the wheel's bytes: the client, the modules that it shares with the service, and the command line as an extra."""
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
    """Return the argument of ``pip install`` for a kind of app; empty where nothing has to be installed."""
    if not install:
        return ""
    return f"{install} @ {url.rstrip('/')}/client/{NAME}#sha256={hashlib.sha256(wheel()).hexdigest()}"


@router.get("/client/{name}")
def client(name: str) -> Response:
    """Return the wheel. It needs no sign-in: it is the same for every app."""
    if name != NAME:
        raise Problem("not-found", f"There is no {name}. This service has {NAME}.")
    return Response(wheel(), media_type="application/zip", headers={"Cache-Control": "no-cache"})


def _of_command_line() -> list[str]:
    """Return the requirements of the command line: of its own distribution, or in a checkout of an extra."""
    try:
        lines = metadata.requires("obitus-cli") or []
    except metadata.PackageNotFoundError:
        lines = [line for line in metadata.requires("obitus") or () if "'cli'" in line.replace('"', "'")]
    return [line.partition(";")[0].strip() for line in lines if not line.startswith("obitus")]
