"""The entry point of a request without a route: method and path without its varying parts. Standard library only."""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import unquote

from obitus.core.bounds import short
from obitus.core.remembering import remembered

_SEGMENT = re.compile(r"^(?:\d+|[0-9a-fA-F-]{8,}|(?=[^/]*\d)[\w.~@:+-]{2,}|[\w-]{24,}|.*%.*)$")
_VERSION = re.compile(r"v\d{1,2}")
_STATIC = re.compile(
    r"\.(?:js|mjs|css|map|png|jpe?g|gif|svg|ico|webp|woff2?|ttf|txt|xml|json|html?|pdf)$", re.IGNORECASE
)


def _segment(part: str) -> str:
    return "{id}" if _SEGMENT.match(part) and not _VERSION.fullmatch(part) else unquote(part)


_word = lru_cache(maxsize=4096)(_segment)
"""Most segments are words, of which an app has few."""


@remembered(16384, longest=200)
def entry_point(method: str, target: str) -> str:
    """Return method and path, with ``{id}`` for segments that contain numbers or look generated."""
    path = target.partition("?")[0].partition("#")[0]
    if path.startswith(("http://", "https://")):
        path = "/" + path.split("/", 3)[3] if path.count("/") > 2 else "/"
    if _STATIC.search(path):
        return short(f"{method} {path.rpartition('/')[0]}/*")
    parts = [_word(part) if part.isalpha() else _segment(part) for part in path.split("/")[:12]]
    return short(f"{method} {'/'.join(parts) or '/'}")
