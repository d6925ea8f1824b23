"""The client as a wheel, made of what is installed here: an app is set up from the service, with no index of packages.

A wheel is a zip file with its metadata (the binary distribution format of the Python Packaging User Guide). It is made
once, the same bytes each time, so that its hash can be shown beside its address.
"""

from __future__ import annotations

import base64
import hashlib
import io
import zipfile
from functools import cache
from importlib import metadata, resources
from pathlib import Path
from typing import Final

from fastapi import APIRouter
from fastapi.responses import Response

from obitus.core.version import VERSION
from obitus.service.problems import Problem

NAME: Final = f"obitus-{VERSION}-py3-none-any.whl"
PARTS: Final = ("client", "core", "cli", "reading")
_INFO: Final = f"obitus-{VERSION}.dist-info"

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
    required = [line for line in metadata.requires("obitus") or () if _of_command_line(line)]
    head = [
        "Metadata-Version: 2.1",
        "Name: obitus",
        f"Version: {VERSION}",
        "Requires-Python: >=3.11",
        "Provides-Extra: cli",
    ]
    files[f"{_INFO}/METADATA"] = "\n".join([*head, *(f"Requires-Dist: {line}" for line in required), ""]).encode()
    files[f"{_INFO}/WHEEL"] = b"Wheel-Version: 1.0\nGenerator: obitus\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    files[f"{_INFO}/entry_points.txt"] = b"[console_scripts]\nobitus = obitus.cli:main\n"
    record = [f"{name},sha256={_digest(content)},{len(content)}" for name, content in files.items()]
    files[f"{_INFO}/RECORD"] = "\n".join([*record, f"{_INFO}/RECORD,,", ""]).encode()
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            entry = zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content)
    return made.getvalue()


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


def _of_command_line(requirement_line: str) -> bool:
    return (
        "extra" not in requirement_line or "extra == 'cli'" in requirement_line or 'extra == "cli"' in requirement_line
    )


def _digest(content: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(content).digest()).decode().rstrip("=")
