"""Built files, compressed for clients that accept it: once each, at the first request."""

from __future__ import annotations

import gzip
import hashlib
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from fastapi import Request
from fastapi.responses import Response


@dataclass(frozen=True, slots=True)
class Built:
    """A file, its gzip form (RFC 1952), and a hash of its content."""

    plain: bytes
    packed: bytes
    digest: str


@cache
def built(path: Path) -> Built:
    """Return a file of ours, which does not change while the service runs; raises OSError where there is none."""
    plain = path.read_bytes()
    return Built(plain, gzip.compress(plain, 9, mtime=0), hashlib.sha256(plain).hexdigest()[:32])


def takes_gzip(accepted: str) -> bool:
    """Whether an ``Accept-Encoding`` allows gzip (RFC 9110, 12.5.3)."""
    weights: dict[str, bool] = {}
    for coding in accepted.lower().split(","):
        name, _, weight = coding.partition(";")
        # A weight of zero, with any number of digits, excludes it.
        weights[name.strip()] = weight.replace(" ", "").rstrip("0.") not in ("q=", "q")
    return weights.get("gzip", weights.get("*", False))


def answer(request: Request, path: Path, media_type: str, headers: dict[str, str]) -> Response:
    """Return the file in the form that the request accepts, or 304; raises OSError where there is none."""
    file = built(path)
    packed = takes_gzip(request.headers.get("accept-encoding", ""))
    # Each form has its own tag, or a cache could combine parts of both.
    tag = f'"{file.digest}-gzip"' if packed else f'"{file.digest}"'
    headers = headers | {"ETag": tag, "Vary": "Accept-Encoding"}
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers=headers)
    if packed:
        headers["Content-Encoding"] = "gzip"
    return Response(file.packed if packed else file.plain, media_type=media_type, headers=headers)
